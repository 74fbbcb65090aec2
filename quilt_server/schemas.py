"""What goes over the API, typed."""

from typing import Any, Literal

from ninja import Schema


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


class RecipeIn(Schema):
    padding_px: float
    margin_px: float
    rotate: str
    hold: bool
    density: float
    keep_ratios: bool
    # What is kept then: sizes in "uv", or "texels" of the pictures that islands were painted in.
    ratios: str = "uv"
    fill: str = "common"
    mirror: bool = False
    # Straight edges along the axes go to whole texels; sizes change by so many percent at most for it.
    texel_grid: bool = False
    grid_percent: float = 1.0
    seconds: float
    # In place of the seconds: so many passes, which give the same layout on every machine.
    passes: int | None = None
    seed: int


class FreeRegion(Schema):
    tile: int
    box: list[float]


class SheetIn(Schema):
    id: int
    name: str
    recipe: str = ""
    map_px: int | None = None
    columns: int = 1
    rows: int = 1
    tile_px: dict[str, int] = {}
    tile_names: dict[str, str] = {}
    held_tiles: list[int] = []
    free: list[FreeRegion] = []
    channel: int | None = None


class PictureIn(Schema):
    sha: str
    name: str


class BunchIn(Schema):
    name: str
    members: list[str]
    strict: bool = False


class LinkIn(Schema):
    """Objects by key that keep the UVs of whichever of them is changed; `onto`: on the same texels."""

    members: list[str]
    onto: bool = False


class Settings(RecipeIn):
    map_px: int
    channel_in: int = 0
    channel_out: int = 0
    band: float = 10.0
    density_least: float | None = None
    density_greatest: float | None = None
    weights: dict[str, float] = {}
    rotations: dict[str, str] = {}
    held: list[str] = []
    twins: list[list[str]] = []
    welded: list[int] = []
    pictures: dict[str, PictureIn] = {}
    sheets: list[SheetIn] = []
    recipes: dict[str, RecipeIn] = {}
    sheet_of: dict[str, int] = {}
    # By object or island: the tile of its sheet that it belongs to, by UDIM number.
    tile_of: dict[str, int] = {}
    bunches: list[BunchIn] = []
    links: list[LinkIn] = []
    channel_names: dict[str, str] = {}
    # By channel: the sheets, and what lies on which and how, while another one is worked on.
    shelved: dict[str, dict[str, Any]] = {}
    bunch_objects: str = ""
    apart_px: float = 0.0
    # Steps that can be undone; older ones are forgotten. 0: all stay.
    history: int = 0


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


class PictureOut(PictureIn):
    width: int
    height: int


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
    id: int
    name: str
    author: str
    may_change: bool
    snapshot: int | None
    undo: str | None
    redo: str | None
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
    """Which objects or islands of a sheet go to which tile: `by` object or material each has one of its own, by name what is like the pattern goes to
    `tile`."""

    sheet: int
    by: Literal["object", "material", "name"]
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
