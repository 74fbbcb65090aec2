"""What the page asks while something is picked, dragged or brushed: answered at once, and nothing is changed."""

from django.http import HttpRequest
from ninja import Field, Router, Schema

from .asked import on, project_of
from .projects.hands import brushed, grabbed, sewn
from .projects.picking import Asked, pick
from .rights import LOOK

router = Router()


class PickIn(Schema):
    """An edge of an object that the page shows: file, object, [triangle, side], and what is wanted from it; or all that is picked of it, for its mirror
    image."""

    base: int
    file: int
    object: int
    way: str
    edge: list[int] = []
    goal: list[int] | None = None
    degrees: float = Field(30.0, ge=0, le=180)
    edges: list[list[int]] = []
    faces: list[int] = []
    line: list[list[float]] = []


class PickOut(Schema):
    """Edges [triangle, side] and faces (triangles) of the object."""

    edges: list[list[int]]
    faces: list[int]


class GrabIn(Schema):
    """Points [triangle, corner] of an object that the page shows, and how far on the sheet others follow them."""

    base: int
    file: int
    object: int
    points: list[list[int]]
    reach: float = Field(0.0, ge=0, le=1e4)


class GrabOut(Schema):
    """Corners 3 t + k of the object's triangles that follow, and how much."""

    corners: list[int]
    weights: list[float]


class SewnIn(Schema):
    """Edges [triangle, side] of an object that the page shows."""

    base: int
    file: int
    object: int
    edges: list[list[int]]


class SewnOut(Schema):
    """Lines [u, v, u, v] around what sewing would bring across, where it would lie; of so many islands, or why none would come."""

    lines: list[list[float]]
    islands: int
    why: str = ""


class BrushIn(Schema):
    """Dabs [u, v, radius, strength] of a stroke on an island; `done`: how many came before them; `points` [triangle, corner] that stay."""

    base: int
    file: int
    object: int
    island: int
    token: str = Field(max_length=40)
    held: bool = False
    points: list[list[int]] = []
    done: int = Field(0, ge=0)
    dabs: list[list[float]] = Field(max_length=400)


class BrushOut(Schema):
    """Corners that moved and their UVs, two numbers each; `again`: the stroke is to be sent from its beginning."""

    corners: list[int]
    uv: list[float]
    done: int
    again: bool


@router.post("/projects/{project_id}/pick", response=PickOut)
@LOOK
def pick_more(request: HttpRequest, project_id: int, body: PickIn) -> PickOut:
    """Edges or faces of an object that follow from one that was picked."""
    head = on(project_of(project_id), body.base)
    return PickOut(
        **pick(head, body.file, body.object, Asked(body.way, body.edge, body.goal, body.degrees, body.edges, body.faces, body.line))
    )


@router.post("/projects/{project_id}/grab", response=GrabOut)
@LOOK
def grab_points(request: HttpRequest, project_id: int, body: GrabIn) -> GrabOut:
    """What follows picked points while they are dragged."""
    return GrabOut(**grabbed(on(project_of(project_id), body.base), body.file, body.object, body.points, body.reach))


@router.post("/projects/{project_id}/sewn", response=SewnOut)
@LOOK
def look_at_sewn(request: HttpRequest, project_id: int, body: SewnIn) -> SewnOut:
    """What sewing picked edges would bring across; nothing is changed."""
    return SewnOut(**sewn(on(project_of(project_id), body.base), body.file, body.object, body.edges))


@router.post("/projects/{project_id}/brush", response=BrushOut)
@LOOK
def brushon(request: HttpRequest, project_id: int, body: BrushIn) -> BrushOut:
    """What moves under the brush; nothing is kept until the stroke is made a step."""
    head = on(project_of(project_id), body.base)
    return BrushOut(**brushed(head, body.file, body.object, body.island, body.token, body.held, body.points, body.done, body.dabs))
