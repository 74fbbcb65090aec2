"""The unit of files that are there already: layouts stay as they are, densities follow."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

from pydantic import Field

from quilt_core.arrays import pack_arrays
from quilt_core.errors import QuiltError

from ...projects.keys import FileKeys
from ...projects.measuring import measure
from ...projects.models import Job, Layout, SourceFile
from ...projects.opened import arrays_of
from ...projects.reading import choose, parts_of
from ...projects.sources import kept_scene, make_reading
from ...projects.state import source_files
from ..kind import Asked, FileNumber, Kind
from ..landing import head_of, land
from ..progress import StopFlag, say, steps
from ..succession import Succession


class Units(Asked):
    """For files by number, metres in one of their units; of formats that say that, how many times as large as they say."""

    words: ClassVar = {"units": "A unit is from a micrometre to a thousand kilometres."}
    units: dict[FileNumber, Annotated[float, Field(ge=1e-6, le=1e6, allow_inf_nan=False)]] = Field(min_length=1)

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        return self.model_dump()


def run_units(job: Job) -> None:
    """Read files anew in other units: one undo step."""
    project, head, before = head_of(job)
    channel, after = before.channel, Succession.of(head, arrays_of(before, "transforms"))
    changed = [(f, float(u)) for k, f in source_files(head).items() if (u := job.params["units"].get(str(k))) and u != f.unit_m]
    if not changed:
        raise QuiltError("These files have that unit already.")
    for old, unit in steps(job, changed, lambda c: f"Reading {c[0].name} anew", (0.0, 0.7)):
        new = _in_unit(old, unit, channel)
        after.take(FileKeys(old.pk, new.pk, None), after.transforms[str(old.pk)])
    job.span = (0.7, 1.0)
    say(job, "Measuring again")
    parts = parts_of(choose(after.snapshot, whole=True))
    layout = Layout(project=project, kind="import", channel=channel, transforms=pack_arrays(after.transforms), recipe={})
    measure(layout, parts, parts.whole(after.transforms), after.settings, stop=StopFlag(job))
    job.result = {"changed": len(changed)}
    name = changed[0][0].name if len(changed) == 1 else f"{len(changed)} files"
    land(project, head, layout, f"Another unit for {name}"[:120], **after.changes)


def _in_unit(old: SourceFile, unit: float, channel: int) -> SourceFile:
    """The same file in another unit, saved with what is read from it."""
    new = SourceFile.objects.get(pk=old.pk)
    new.pk, new.unit_m = None, unit
    new._state.adding = True
    new.save()
    make_reading(new, kept_scene(new), channel).save()
    return new


KINDS = (Kind("units", run_units, Units),)
