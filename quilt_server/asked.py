"""The parameters of every kind of job, typed: what does not fit is refused here, in words, and nothing untyped goes further in."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, StrictBool, StrictStr, ValidationError

from quilt_core.errors import QuiltError

from .schemas import Settings

Number = Annotated[int, Field(strict=True, ge=0, le=2**53)]
Whole = Annotated[int, Field(strict=True, ge=-(2**53), le=2**53)]
Real = Annotated[float, Field(strict=True, allow_inf_nan=False)]
FileNumber = Annotated[str, Field(strict=True, pattern=r"^\d{1,15}$")]
Islands = dict[FileNumber, list[Number]] | None
Sheets = list[Whole] | Literal["stale"] | None


class Asked(BaseModel):
    """Parameters of a job; what a job does not know is left out."""

    model_config = ConfigDict(extra="ignore")


class Mend(Asked):
    action: StrictStr = ""
    way: StrictStr | None = None
    density: Real | None = None
    islands: Islands = None
    rows: dict[FileNumber, list[list[Real]]] | None = None
    label: StrictStr = ""


class Variant(BaseModel):
    model_config = ConfigDict(extra="forbid")
    padding_px: Real | None = None
    margin_px: Real | None = None
    rotate: StrictStr | None = None
    seed: Whole | None = None
    seconds: Real | None = None
    fill: StrictStr | None = None


class Pack(Asked):
    sheets: Sheets = None
    go_on: StrictBool = False
    variants: list[Variant] = []


class Explain(Asked):
    sheets: Sheets = None


class Shapes(Asked):
    islands: Islands = None
    mirrored: StrictBool = False


class Twins(Asked):
    islands: Islands = None
    on: StrictBool = True


class ChannelIn(Asked):
    channel: Whole = -1


class Replace(Asked):
    compared: Number | None = None


class Keep(Asked):
    layout: Number | None = None


class Objects(Asked):
    left_out: list[StrictStr] | None = None


class SettingsIn(Asked):
    settings: Settings


class Bake(Asked):
    sheet: Whole | None = None
    px: Whole = 1024
    rays: Whole = 32
    maps: list[StrictStr] | None = None
    cage: Real | None = None
    depth: Whole = 8
    pairs: dict[StrictStr, StrictStr] = {}


class Images(BaseModel):
    model_config = ConfigDict(extra="forbid")
    fill: StrictStr = "blank"
    format: StrictStr = "png"
    depth: Whole = 8
    alpha: StrictBool = False
    colour: list[Real] = [0.5, 0.5, 0.5]
    tiles: StrictStr = ""


class ChannelOut(BaseModel):
    model_config = ConfigDict(extra="ignore", populate_by_name=True)
    source: Whole | Literal["layout"] = Field(alias="from")
    name: StrictStr | None = ""


class Deliver(BaseModel):
    model_config = ConfigDict(extra="forbid")
    sheet: Whole | None = None
    templates: StrictStr = "png"
    template_fill: StrictStr = "object"
    template_zone: StrictBool = False
    template_labels: StrictBool = False
    template_wire: StrictBool = False
    template_paper: StrictBool = False
    template_px: Whole = 0
    images: Images | None = None
    pattern: StrictStr = "{sheet}.{tile}"
    paint: StrictBool = False
    per_sheet: StrictBool = False
    twins_aside: StrictBool = False
    format: StrictStr = ""
    joined: StrictBool = False
    channels: list[ChannelOut] = []


class Nothing(Asked):
    """A job without parameters."""


MODELS: dict[str, type[BaseModel]] = {
    "mend": Mend, "channel": ChannelIn, "pack": Pack, "explain": Explain, "alike": Shapes, "stack": Shapes, "replace": Replace, "twins": Twins,
    "settings": SettingsIn, "deliver": Deliver, "bake": Bake, "objects": Objects, "keep": Keep, "weld": Nothing, "bleed": Nothing,
}  # fmt: skip
# What the screens call a parameter that somebody may have typed in.
_WORDS = {
    "pattern": "The names of tile images are a text with {sheet}, {kind} and {tile}.",
    "settings": "These settings are not whole. Load the page again.",
    "left_out": "Objects are left out by their keys.",
    "islands": "Islands are chosen as numbers for each file.",
    "rows": "An island cannot be put there: its place, size or turn is no usable number.",
    "channels": "A UV channel gets the layout or one of the old channels 0 to 7.",
    "density": "The density must be greater than 0 px/m.",
    "images": "These tile images cannot be made: a value of them is not what it should be.",
    "variants": "Up to 24 recipes are tried at once, that differ in padding_px, margin_px, rotate, seed, seconds, fill.",
    "sheets": "This sheet is not there any more. Choose another one.",
    "pairs": "Pairs name the low object and the one that it gets its detail from.",
}


def typed(kind: str, params: dict[str, Any]) -> dict[str, Any]:
    """Parameters as their model has them: every value of its type, what was not given with its usual value.

    Raises
    ------
    QuiltError : unknown work, or a value of another type
    """
    model = MODELS.get(kind)
    if model is None:
        raise QuiltError(f"'{kind[:40]}' is not work that can be started.")
    try:
        found = model(**{str(k): v for k, v in params.items()})
    except ValidationError as e:
        first = e.errors()[0]
        place = str(first["loc"][0]) if first["loc"] else ""
        if first["type"] == "extra_forbidden" and kind == "deliver" and len(first["loc"]) == 1:
            raise QuiltError(f"A delivery knows no '{place[:40]}'.") from e
        raise QuiltError(_WORDS.get(place, f"'{place[:40]}' of this work is not what it should be: {first['msg'].lower()}.")) from e
    return found.model_dump(by_alias=True, exclude_unset=kind in ("bake", "deliver"))
