"""What is asked and answered beside states: work, people, plans."""

from typing import Any, Literal

from ninja import Schema

from .settings import Settings


class FormatOut(Schema):
    """A file format: what it is read by, what it is written as (ending to words), and what it holds."""

    title: str
    endings: list[str]
    exports: dict[str, str]
    one_channel: bool
    says_unit: bool
    names_channels: bool


class JobOut(Schema):
    """`part` of it (0 to 1) is done, where that is known; `mine`: who looks at it asked for it."""

    id: int
    kind: str
    state: str
    progress: dict[str, Any]
    part: float | None
    error: str
    result: dict[str, Any]
    mine: bool


class MadeOut(Schema):
    """Work that left something with the project; `stale`: of another state than it has now; `made`: when."""

    job: JobOut
    stale: bool
    made: str


class AtWork(Schema):
    """A job that is not over, of a project that is not open; `part` of it (0 to 1) is done after so many seconds, where that is known."""

    id: int
    kind: str
    project: int
    name: str
    text: str
    part: float | None
    seconds: float


class Name(Schema):
    name: str


class Change(Schema):
    base: int
    settings: Settings


class OthersWork(Schema):
    """Work on a project as others see it: who asked for it, what is done just now, and which part of it (0 to 1) where that is known."""

    id: int
    author: str
    text: str
    part: float | None


class NowOut(Schema):
    """A project's newest state: its number, who made it and what it was; and the work that is being done on it."""

    snapshot: int | None
    author: str
    label: str
    work: OthersWork | None


class PersonOut(Schema):
    """Somebody who may look at a project, and whether they may change it."""

    name: str
    change: bool


class PeopleOut(Schema):
    """Whose project it is, whom it is shared with, and who else there is."""

    owner: str
    mine: bool
    shared: list[PersonOut]
    others: list[str]


class ShareIn(Schema):
    """Whom to share with, and how: to "look", to "change", or "none" any more."""

    name: str
    how: str


class OpenedOut(Schema):
    """A project that is being filled from a saved one, by a job."""

    project: int
    job: "JobOut"


class JobIn(Schema):
    kind: str
    base: int
    params: dict[str, Any] = {}


class ThinIn(Schema):
    keep: int


class ThinOut(Schema):
    steps: int
    freed: int


class Step(Schema):
    base: int


class Take(Schema):
    """The proposal that is taken, a snapshot's number."""

    base: int
    snapshot: int


class Discard(Schema):
    base: int
    layout: int
    discarded: bool = True
    name: str | None = None


class PlanIn(Schema):
    sheet: int
    objects: list[str] | None = None
    density: float | None = None


class MapPlan(Schema):
    px: int
    density: list[float]
    tiles: list[int] | None


class PlanOut(Schema):
    objects: int
    area: float
    coverage: list[float]
    tries: int
    tiles: int
    density: list[float]
    maps: list[MapPlan]


class SuggestIn(Schema):
    sheets: list[int]
    by: str = "material"


class OrderIn(Schema):
    """Which objects or islands of a sheet go to which tile: `by` object, material or file each has one of its own; by a name what has one like the pattern goes
    to `tile`."""

    sheet: int
    by: Literal["object", "material", "file", "name", "file name", "material name"]
    pattern: str = ""
    tile: int = 1001


class OrderOut(Schema):
    """Settings that make it so."""

    tile_of: dict[str, int]
    tile_names: dict[str, str]
    columns: int
    rows: int
    objects: int


class SuggestOut(Schema):
    sheet_of: dict[str, int]
