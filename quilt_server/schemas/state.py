"""Projects and their states, as the browser takes them."""

from typing import Any

from ninja import Schema

from .settings import Settings


class ProjectOut(Schema):
    id: int
    name: str
    modified: str
    demo: bool
    deleted: bool
    objects: int
    owner: str
    may_change: bool


class Density(Schema):
    median: float
    least: float
    greatest: float


class ObjectOut(Schema):
    key: str
    file: int
    number: int
    name: str
    path: str
    materials: list[str]
    triangles: int
    bare: int
    islands: int
    first_island: int
    detail_of: str
    channels: list[int]
    world_area: float
    left_out: bool
    shares: list[str]
    weight: float
    points: int
    sheets: list[int]
    density: Density | None


class MaterialOut(Schema):
    name: str
    images: dict[str, str] = {}
    # Linear, that its base colour is multiplied by.
    colour: list[float] | None = None


class FileOut(Schema):
    """`unit_m`: metres in one of its units, or, where it says its unit, how many times as large as it says; `size_m`: how far it reaches along x, y and z,
    None for files that were read before that was kept."""

    id: int
    name: str
    unit_m: float
    size_m: list[float] | None
    warnings: list[str]
    materials: list[MaterialOut]


class Overlap(Schema):
    pairs: int
    self: int
    px: float


class TileFigures(Schema):
    tile: int
    px: int
    coverage: float
    twice: float = 0.0
    islands: int
    density: float | None
    gap_px: float | None = None
    gap_at: list[str] = []
    margin_px: float | None = None
    margin_at: list[str] = []


class GridFigures(Schema):
    """Straight edges along the axes, how many of them lie on whole texels, and by which share sizes changed at most where that is known."""

    edges: int
    on: int
    change: float | None = None


class Figures(Schema):
    map_px: int
    islands: int
    coverage: float
    density: float | None
    smallest_gap_px: float | None
    smallest_margin_px: float | None
    overlap: Overlap
    outside: int
    flipped: int
    limiting: list[str] = []
    seconds: float | None = None
    passes: int | None = None
    tiles: list[TileFigures] = []
    twins: int = 0
    grid: GridFigures | None = None


class TryOut(Schema):
    id: int
    sheet: int
    recipe: dict[str, Any]
    name: str
    figures: Figures
    padding_px: float
    seed: int
    kept: bool


class BleedIsland(Schema):
    tile: int
    level: int
    share: float
    at: list[float]
    island: list[int]
    other: list[int] | None


class BleedTile(Schema):
    tile: int
    px: int
    clean: int
    levels: int
    thumb: int
    twice: int
    # The share of the outlines that foreign colours reach on the full map.
    on_map: float = 0.0


class Bleed(Schema):
    px: int
    padding_px: float
    threshold: float
    clean: int | None
    unmeasured: list[int] = []
    # Islands that cover no texel's middle, and which these are.
    thin: int = 0
    thin_islands: list[list[int]] = []
    levels: int
    thumb: int
    on_map: float = 0.0
    # Islands that foreign colours reach on the full map.
    reached: int = 0
    tiles: list[BleedTile]
    islands: list[BleedIsland]


class VerdictOut(Schema):
    grade: str
    line: str
    reasons: list[str]


class PackedTile(Schema):
    """A tile with what belongs to it: `alone` is the density that it could have by itself, over the common one."""

    tile: int
    islands: int
    alone: float


class MoveOut(Schema):
    """A part, by the name of its first island, that would gain most in another tile, and the factor on the density that this brings about."""

    name: str
    source: int
    target: int
    gain: float


class SheetOut(Schema):
    id: int
    name: str
    verdict: VerdictOut | None = None
    bleed: Bleed | None = None
    figures: Figures | None
    islands: int
    kept: int | None
    stale: list[str]
    moved: int
    filled: list[PackedTile] | None = None
    move: MoveOut | None = None
    spans: str | None = None


class JobFileOut(Schema):
    """A project as a job file, and in words what of it does not stand there."""

    name: str
    text: str
    notes: list[str]


class FaultOut(Schema):
    kind: str
    sheet: int
    heavy: int
    count: int
    title: str
    detail: str
    remedy: str
    repair: str
    islands: list[tuple[int, int]]
    places: list[tuple[float, float, float]]
    pairs: list[tuple[int, int, int, int]]


class StateOut(Schema):
    """`broken`: what the step was called that could not be shown, so that the project went back to this one."""

    id: int
    name: str
    author: str
    may_change: bool
    snapshot: int | None
    undo: str | None
    redo: str | None
    broken: str | None = None
    settings: Settings
    channels: list[int]
    files: list[FileOut]
    objects: list[ObjectOut]
    layout: int | None
    figures: Figures | None
    sheets: list[SheetOut]
    packed: bool
    tries: list[TryOut]
    job: int | None
