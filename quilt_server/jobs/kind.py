"""What a kind of job is: its parameters, typed and checked at the border, and the work itself. Each stands in a module of `kinds`."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from quilt_core.errors import QuiltError

from ..projects.models import Job
from ..projects.sheets import sheets

Number = Annotated[int, Field(strict=True, ge=0, le=2**53)]
Whole = Annotated[int, Field(strict=True, ge=-(2**53), le=2**53)]
Real = Annotated[float, Field(strict=True, allow_inf_nan=False)]
FileNumber = Annotated[str, Field(strict=True, pattern=r"^[0-9]{1,15}$")]
Islands = dict[FileNumber, list[Number]] | None
Sheets = list[Whole] | Literal["stale"] | None

# What the screens call a parameter that several kinds have.
_WORDS = {
    "islands": "Islands are chosen as numbers for each file.",
    "sheets": "This sheet is not there any more. Choose another one.",
}


class Asked(BaseModel):
    """Parameters of a job; one that a job does not know is refused, with the nearest that it does. `words` say what a parameter should be, where somebody may have
    typed it in."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)
    words: ClassVar[Mapping[str, str]] = {}
    unknown: ClassVar[str] = "This work knows no '{}'."

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """The parameters that the job gets, as far as they can be told to be wrong at once; `settings` are the project's.

        Raises
        ------
        QuiltError : parameters that cannot work
        """
        return self.model_dump(by_alias=True)


@dataclass(frozen=True)
class Kind:
    """name : in the API; asked : its parameters, None where it is started by an upload
    run : the work, in a process of its own, which writes its result in one transaction
    keeps_best : it ends by itself when it is stopped, since it keeps what it found
    """

    name: str
    run: Callable[[Job], None]
    asked: type[Asked] | None = Asked
    keeps_best: bool = False

    def usual(self) -> dict[str, Any]:
        """What a parameter is where nothing is said of it: work that has waited since an older version knows only those of its time."""
        fields = {} if self.asked is None else self.asked.model_fields
        return {f.alias or n: f.get_default(call_default_factory=True) for n, f in fields.items() if not f.is_required()}

    def params(self, given: dict[str, Any], settings: dict[str, Any]) -> dict[str, Any]:
        """Parameters that came in, typed and checked.

        Raises
        ------
        QuiltError : a value of another type, or one that cannot work
        """
        if self.asked is None:
            raise QuiltError(f"'{self.name}' is not work that can be started.")
        try:
            found = self.asked(**{str(k): v for k, v in given.items()})
        except ValidationError as e:
            first = e.errors()[0]
            place = str(first["loc"][0]) if first["loc"] else ""
            if first["type"] == "extra_forbidden" and len(first["loc"]) == 1:
                near = difflib.get_close_matches(place, [f.alias or n for n, f in self.asked.model_fields.items()], 1, 0.5)
                raise QuiltError(self.asked.unknown.format(place[:40]) + (f" Did you mean '{near[0]}'?" if near else "")) from e
            usual = f"'{place[:40]}' of this work is not what it should be: {first['msg'].lower()}."
            raise QuiltError((_WORDS | dict(self.asked.words)).get(place, usual)) from e
        return found.params(settings)


def check_sheets(asked: list[int] | str | None, settings: dict[str, Any]) -> None:
    """Refuse sheets that the settings do not have.

    Raises
    ------
    QuiltError : a sheet that is gone
    """
    if isinstance(asked, list) and (not asked or not set(asked) <= {s["id"] for s in sheets(settings)}):
        raise QuiltError("This sheet is not there any more. Choose another one.")
