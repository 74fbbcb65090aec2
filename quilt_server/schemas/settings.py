"""Settings as they come in and are kept: the one place where their form is checked, whoever they come from (a page, a job file, a saved project, an old row)."""

import re
from typing import Annotated

from ninja import Schema
from pydantic import AfterValidator, ConfigDict, Field
from pydantic_core import PydanticCustomError

LARGEST = 2**31 - 1  # what every column of the database takes


def _like(pattern: str, words: str) -> AfterValidator:
    """A text of one form; digits are those of ASCII, since Python calls others digits, too, that it cannot read as a number."""
    form = re.compile(pattern)

    def check(text: str) -> str:
        if form.fullmatch(text) is None:
            raise PydanticCustomError("form", "{words}", {"words": words})
        return text

    return AfterValidator(check)


_NUMBER = "[0-9]{1,15}"
ObjectKey = Annotated[str, _like(f"{_NUMBER}/{_NUMBER}", "An object is named by its file and number, as in 3/0.")]
IslandKey = Annotated[str, _like(f"{_NUMBER}:{_NUMBER}", "An island is named by its file and number, as in 3:0.")]
Key = Annotated[str, _like(f"{_NUMBER}[/:]{_NUMBER}", "Weights, rules and sheets belong to an object or an island.")]
ChannelKey = Annotated[str, _like("[0-7]", "UV channels are 0 to 7.")]
TileKey = Annotated[str, _like("[0-9]{1,9}", "A tile has a UDIM number, 1001 to 2000.")]
Sha = Annotated[str, _like("[0-9a-f]{64}", "A picture is known by its SHA-256.")]
SheetNumber = Annotated[int, Field(ge=1, le=LARGEST)]
Tile = Annotated[int, Field(ge=0, le=LARGEST)]
Pixels = Annotated[int, Field(ge=-1, le=LARGEST)]


class Plain(Schema):
    """Settings hold no number that is none, and none that is without end."""

    model_config = ConfigDict(allow_inf_nan=False)


class RecipeIn(Plain):
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
    passes: Annotated[int, Field(ge=-LARGEST, le=LARGEST)] | None = None
    seed: Annotated[int, Field(ge=-(2**53), le=2**53)]


class FreeRegion(Plain):
    tile: Tile
    box: list[float]


class SheetIn(Plain):
    id: SheetNumber
    name: str
    recipe: str = ""
    map_px: Pixels | None = None
    columns: int = 1
    rows: int = 1
    tile_px: dict[TileKey, Pixels] = {}
    tile_names: dict[TileKey, str] = {}
    held_tiles: list[Tile] = []
    free: list[FreeRegion] = []
    channel: int | None = None


class PictureIn(Plain):
    sha: Sha
    name: str


class BunchIn(Plain):
    name: str
    members: list[Key]
    strict: bool = False


class LinkIn(Plain):
    """Objects by key that keep the UVs of whichever of them is changed; `onto`: on the same texels."""

    members: list[ObjectKey]
    onto: bool = False


class ShelfIn(Plain):
    """What belongs to a channel that is not worked on just now, and comes back with it; `layout`: how it was left, `kept`: the try that
    each of its sheets kept, and `fresh`: which inputs of those were as they are in the layout."""

    map_px: Pixels
    sheets: list[SheetIn] = []
    weights: dict[Key, float] = {}
    rotations: dict[Key, str] = {}
    sheet_of: dict[Key, SheetNumber] = {}
    tile_of: dict[Key, Tile] = {}
    held: list[Key] = []
    twins: list[list[Key]] = []
    bunches: list[BunchIn] = []
    bunch_objects: str = ""
    apart_px: float = 0.0
    channel_out: Annotated[int, Field(ge=0, le=7)] = 0
    layout: int | None = None
    kept: dict[str, int] = {}
    fresh: dict[str, list[str]] = {}


class Settings(RecipeIn):
    map_px: Pixels
    channel_in: int = 0
    channel_out: int = 0
    band: float = 10.0
    density_least: float | None = None
    density_greatest: float | None = None
    weights: dict[Key, float] = {}
    rotations: dict[Key, str] = {}
    held: list[Key] = []
    twins: list[list[Key]] = []
    pictures: dict[str, PictureIn] = {}
    sheets: list[SheetIn] = []
    recipes: dict[str, RecipeIn] = {}
    sheet_of: dict[Key, SheetNumber] = {}
    # By object or island: the tile of its sheet that it belongs to, by UDIM number.
    tile_of: dict[Key, Tile] = {}
    bunches: list[BunchIn] = []
    links: list[LinkIn] = []
    channel_names: dict[ChannelKey, str] = {}
    # By channel: the sheets, and what lies on which and how, while another one is worked on.
    shelved: dict[ChannelKey, ShelfIn] = {}
    bunch_objects: str = ""
    apart_px: float = 0.0
    # Steps that can be undone; older ones are forgotten. 0: all stay.
    history: int = 0


class PictureOut(PictureIn):
    width: int
    height: int
