"""Reading files in another UV channel."""

from __future__ import annotations

from typing import Annotated, ClassVar

from pydantic import Field

from quilt_core.arrays import pack_arrays
from quilt_core.errors import QuiltError

from ...projects.measuring import measure
from ...projects.models import Job, Layout, Project, Reading, Snapshot, SourceFile
from ...projects.reading import choose, parts_of
from ...projects.sources import identity, kept_scene, make_reading
from ...projects.state import settings_of
from ..kind import Asked, Kind
from ..landing import land
from ..progress import StopFlag, report_progress


class Channel(Asked):
    """The channel that is read."""

    words: ClassVar = {"channel": "UV channels are 0 to 7."}
    channel: Annotated[int, Field(strict=True, ge=0, le=7)]


def run_channel(job: Job) -> None:
    """Read every file in another UV channel; the layout starts anew with the UVs of that channel."""
    project = Project.objects.get(pk=job.project_id)
    head, channel = project.head, int(job.params["channel"])
    if head is None or head.pk != job.params["base"]:
        raise QuiltError("The project changed since this was asked for. Choose the channel again.")
    transforms = {}
    for n, file in enumerate(SourceFile.objects.filter(pk__in=head.files)):
        report_progress(job, {"text": f"Reading channel {channel} of {file.name}", "part": n / len(head.files)})
        reading = Reading.objects.filter(file=file, channel=channel, welded=False).first()
        if reading is None:
            reading = make_reading(file, kept_scene(file), channel)
            reading.save()
        transforms[str(file.pk)] = identity(reading)
    if not any(len(t) for t in transforms.values()):
        raise QuiltError(f"No object has UVs in channel {channel}. The channel stays as it was.")
    chosen = settings_of(head)
    if chosen["channel_out"] == chosen["channel_in"]:
        # What was written where it was read stays so: another channel is not to be written over unasked.
        chosen |= {"channel_out": channel}
    chosen |= {"channel_in": channel}
    # What holds for single islands counts islands of the old channel.
    for rule in ("weights", "rotations", "sheet_of"):
        chosen[rule] = {k: v for k, v in chosen[rule].items() if "/" in k}
    chosen |= {"held": [], "twins": [], "welded": [], "bunches": []}
    snapshot = Snapshot(files=head.files, left_out=head.left_out, settings=chosen)
    layout = Layout(project=project, kind="import", channel=channel, transforms=pack_arrays(transforms), recipe={})
    parts = parts_of(choose(snapshot, whole=True))
    measure(layout, parts, parts.whole(transforms), chosen, stop=StopFlag(job))
    land(project, head, layout, f"Read channel {channel}", settings=chosen, kept={})


KINDS = (Kind("channel", run_channel, Channel),)
