"""What may stand in a job file. Documented in `docs/jobs.md`; the schema that is published is made from this."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, Literal, Union

from pydantic import BaseModel, ConfigDict, Field, StrictBool, StrictStr, create_model

from ..jobs.kind import Real, Whole
from ..jobs.kinds import ALL
from ..jobs.kinds.bake import Bake as BakeAsked
from ..jobs.kinds.deliver import Deliver
from ..projects.doing import BY_FILE

VERSION = 1
UNITS = {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3048}
Unit = Literal["m", "cm", "mm", "in", "ft"] | Annotated[float, Field(gt=0)]
Channel = Annotated[int, Field(strict=True, ge=0, le=7)]
# The work that a job can do, in any order. What follows from the rules (sheets, twins, what is left out) is none.
STEPS = ("clean", "unwrap", "flatten", "seams", "hand", "copies", "further", "mend", "stack", "twins", "ready", "pack")


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class UnitOf(_Table):
    """Another unit for files by pattern; of formats that say their unit, how many times as large as they say."""

    files: list[StrictStr]
    unit: Unit


class Input(_Table):
    """The mesh files, by patterns below the folder of the input, in this order; what lies beside them is found by itself.

    unit : of files that do not say; channel : the UV channel that is worked on
    seen : the SHA-256 of files as they were when islands and edges of them were written down by number: these hold for the same files only
    """

    files: list[StrictStr] = ["**/*"]
    unit: Unit = "m"
    units: list[UnitOf] = []
    channel: Channel = 0
    seen: dict[StrictStr, StrictStr] = {}


class Recipe(_Table):
    """How it is packed. padding_px : 8 at 2048, scaled with the map, where it is not given; margin_px : half of that."""

    map_px: Whole = 2048
    padding_px: Real | None = None
    margin_px: Real | None = None
    rotate: StrictStr = "90"
    hold: StrictBool = False
    density: Real = 512.0
    keep_ratios: StrictBool = False
    ratios: StrictStr = "uv"
    fill: StrictStr = "common"
    mirror: StrictBool = False
    texel_grid: StrictBool = False
    grid_percent: Real = 1.0
    seconds: Real = 10.0
    passes: Whole | None = None
    seed: Whole = 0


class NamedRecipe(_Table):
    """A recipe that sheets name; what it does not say is as in `recipe`."""

    padding_px: Real | None = None
    margin_px: Real | None = None
    rotate: StrictStr | None = None
    hold: StrictBool | None = None
    density: Real | None = None
    keep_ratios: StrictBool | None = None
    ratios: StrictStr | None = None
    fill: StrictStr | None = None
    mirror: StrictBool | None = None
    texel_grid: StrictBool | None = None
    grid_percent: Real | None = None
    seconds: Real | None = None
    passes: Whole | None = None
    seed: Whole | None = None


class Free(_Table):
    """A box [least u, least v, greatest u, greatest v] inside a tile that is kept free."""

    tile: Whole
    box: list[Real]


class Sheet(_Table):
    """A sheet with its tiles, by UDIM number."""

    name: StrictStr
    id: Whole | None = None
    recipe: StrictStr = ""
    map_px: Whole | None = None
    columns: Whole = 1
    rows: Whole = 1
    tile_px: dict[StrictStr, Whole] = {}
    tile_names: dict[StrictStr, StrictStr] = {}
    held_tiles: list[Whole] = []
    free: list[Free] = []
    channel: Channel | None = None


class Who(_Table):
    """Whom something is for: objects by patterns on their names or paths ("#3": by number in its file), islands by the material of most of their faces, or islands
    by number; in files by pattern. What is not said is no condition."""

    files: list[StrictStr] | None = None
    objects: list[StrictStr] | None = None
    materials: list[StrictStr] | None = None
    islands: list[Whole] | None = None


class Rule(Who):
    """What holds for some objects or islands. Of two rules for the same the later one holds; a rule for islands holds over one for objects."""

    weight: Real | None = None
    rotate: StrictStr | None = None
    sheet: StrictStr | None = None
    tile: Whole | None = None
    held: StrictBool | None = None
    left_out: StrictBool | None = None


class Bunch(_Table):
    """Islands that stay together."""

    name: StrictStr
    strict: StrictBool = False
    members: list[Who]


class Link(_Table):
    """Objects that keep the UVs of whichever of them is changed; onto : on the same texels."""

    members: list[Who]
    onto: StrictBool = False


class Twins(_Table):
    """Islands that share texels."""

    members: list[Who]


class Together(_Table):
    """Whether the islands of each object stay together ("loose" or "strict"), and how far those of several materials lie apart."""

    objects: StrictStr = ""
    apart_px: Real = 0.0


class Check(_Table):
    """What the density is judged by: the band around the median, in percent, and the least and greatest that are allowed."""

    band: Real = 10.0
    density_least: Real | None = None
    density_greatest: Real | None = None


class Out(_Table):
    """The UV channel that the layout is written to, and names of channels by number."""

    channel: Channel = 0
    names: dict[StrictStr, StrictStr] = {}


class Delivery(Deliver):
    """What is written; as the stage Deliver offers it. sheet : by name, none for all."""

    sheet: StrictStr | None = None  # type: ignore[assignment]


class TestBake(BakeAsked):
    """A test bake. sheet : by name, none for the first; pairs : a low object and the one that it gets its detail from, by name."""

    model_config = ConfigDict(extra="forbid")
    sheet: StrictStr | None = None  # type: ignore[assignment]


class Dabs(_Table):
    """A stroke of the brush on an island of a file."""

    file: StrictStr
    island: Whole
    held: StrictBool = False
    dabs: list[list[Real]] = []


_BY_NAME: dict[str, Any] = {k: (dict[StrictStr, list[Any]] | None, None) for k in BY_FILE} | {
    "objects": (list[StrictStr] | None, None),
    "sheets": (list[StrictStr] | None, None),
    "strokes": (list[Dabs], []),
}


def _step(kind: str) -> type[BaseModel]:
    """A step as it stands in a job file: the parameters of the job, with names in place of numbers."""
    asked = ALL[kind].asked
    fields: dict[str, Any] = {}
    for name, f in asked.model_fields.items() if asked is not None else ():
        fields[name] = _BY_NAME.get(name, (f.annotation if not f.metadata else Annotated[f.annotation, *f.metadata], f.default))  # type: ignore[valid-type]
    if "objects" in fields:
        fields["files"] = (list[StrictStr] | None, None)
    return create_model(f"Step_{kind}", __base__=_Table, __doc__=(asked and asked.__doc__) or "", do=(Literal[kind], ...), **fields)  # type: ignore[valid-type, arg-type, call-overload]


STEP_MODELS = {kind: _step(kind) for kind in STEPS}
if TYPE_CHECKING:
    Step = Any  # the models are made from those of the jobs
else:
    Step = Annotated[Union[tuple(STEP_MODELS.values())], Field(discriminator="do")]  # noqa: UP007


class JobFile(_Table):
    """A job: what comes in, how it is laid out, what is done to it in order, and what is written.

    job : the version of this format; pack : whether all sheets are packed at the end, where no step packs
    """

    job: Literal[1] = 1
    name: StrictStr = ""
    input: Input = Input()
    recipe: Recipe = Recipe()
    recipes: dict[StrictStr, NamedRecipe] = {}
    sheets: list[Sheet] = []
    rules: list[Rule] = []
    twins: list[Twins] = []
    bunches: list[Bunch] = []
    links: list[Link] = []
    together: Together = Together()
    check: Check = Check()
    out: Out = Out()
    steps: list[Step] = []
    pack: StrictBool = True
    delivery: Delivery = Delivery()
    bake: TestBake | None = None
