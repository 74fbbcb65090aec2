"""Settings as they come in and are kept."""

from typing import Any

from ninja import Schema


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


class PictureOut(PictureIn):
    width: int
    height: int
