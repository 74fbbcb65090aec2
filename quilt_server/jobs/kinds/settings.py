"""Settings that change what lies with what, and the choice of objects."""

from __future__ import annotations

import re
from typing import Any, ClassVar

from pydantic import StrictStr

from quilt_core.errors import QuiltError

from ...checks import READ, check, what_changed, whole_settings
from ...projects.measuring import measure
from ...projects.models import Job, Layout, Snapshot
from ...projects.opened import arrays_of
from ...projects.reading import choose, parts_of
from ...projects.sheets import sheets
from ...projects.state import readings, settings_of
from ...schemas.settings import Settings
from ..kind import Asked, Kind
from ..landing import head_of, land
from ..progress import StopFlag, say


class SettingsAsked(Asked):
    """New settings, whole."""

    words: ClassVar = {"settings": "These settings are not whole. Load the page again."}
    settings: Settings

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        check(self.settings)
        plain, settings = self.settings.model_dump(), whole_settings(settings)
        if any(plain[k] != settings[k] for k in READ):
            raise QuiltError("What is read from the files is changed by a job of its own.")
        return {"settings": plain, "label": what_changed(settings, self.settings)}


class Objects(Asked):
    """Keys of the objects that are left out from now on."""

    words: ClassVar = {"left_out": "Objects are left out by their keys."}
    left_out: list[StrictStr]

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        if not all(re.fullmatch(r"\d+/\d+", k) for k in self.left_out):
            raise QuiltError("Objects are left out by their keys.")
        return {"left_out": self.left_out, "label": "Choose objects"}


def run_settings(job: Job) -> None:
    """Take over settings that change what lies with what, or another choice of objects: sheets, their tiles, twins, what is left out."""
    project, head, before = head_of(job)
    settings = job.params.get("settings") or settings_of(head)
    known = {f"{r.file_id}/{n}" for r in readings(head) for n in range(len(r.objects_info))}
    left_out = [k for k in job.params.get("left_out", head.left_out) if k in known]
    say(job, "Measuring again")
    parts = parts_of(choose(Snapshot(files=head.files, left_out=left_out, settings=settings), whole=True))
    layout = Layout(
        project=project, kind="mend", channel=before.channel, recipe=before.recipe, transforms=bytes(before.transforms), name=before.name
    )
    measure(layout, parts, parts.whole(arrays_of(before, "transforms")), settings, before, StopFlag(job))
    ids = {str(s["id"]) for s in sheets(settings)}
    kept = {k: v for k, v in head.kept.items() if k in ids}
    land(project, head, layout, job.params["label"], settings=settings, left_out=left_out, kept=kept)


KINDS = (Kind("settings", run_settings, SettingsAsked), Kind("objects", run_settings, Objects))
