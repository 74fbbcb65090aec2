"""Reading files in another UV channel."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

import numpy as np
from pydantic import Field

from quilt_core import formats
from quilt_core.arrays import pack_arrays
from quilt_core.errors import QuiltError
from quilt_core.unwrap.points import laid_out
from quilt_core.unwrap.skin import revised
from quilt_core.uv.analysis import IDENTITY

from ...projects.keys import BY_KEY, FileKeys, rekeyed
from ...projects.measuring import measure
from ...projects.models import Job, Layout, Reading, Snapshot, SourceFile
from ...projects.opened import arrays_of
from ...projects.reading import choose, parts_of
from ...projects.sources import identity, kept_scene, make_reading
from ...projects.stale import fresh_inputs
from ...projects.state import settings_of
from ..kind import Asked, Kind
from ..landing import head_of, land
from ..progress import StopFlag, steps
from ..revision import Revision, opened
from ..shelving import Back
from ..writing import channels_of

# Of the settings: what belongs to a channel, and comes back with it.
SHELVED = (*BY_KEY, "map_px", "sheets", "held", "twins", "bunches", "bunch_objects", "apart_px", "channel_out")


class Channel(Asked):
    """The channel that is read."""

    words: ClassVar = {"channel": "UV channels are 0 to 7."}
    channel: Annotated[int, Field(strict=True, ge=0, le=7)]


def run_channel(job: Job) -> None:
    """Read every file in another UV channel. A layout that was made is kept as the UVs that it gives, with its sheets and rules; where the other channel
    was worked on before, its own come back."""
    project, head, before = head_of(job)
    channel, stop = int(job.params["channel"]), StopFlag(job)
    if channel == int(settings_of(head)["channel_in"]):
        raise QuiltError(f"UV channel {channel} is the one that is worked on already.")
    settings, work = settings_of(head), _laid(job, head, before)
    if not _is_there(head, work, channel):
        raise QuiltError(f"No object has UVs in channel {channel}. The channel stays as it was.")
    files = dict(zip(head.files, head.files, strict=True))
    shelf = {"layout": before.pk, "kept": head.kept, "fresh": fresh_inputs(head)}
    again = settings["shelved"].get(str(channel), {})
    settings = _next(settings, channel, bool(work), shelf)
    left_out = list(head.left_out)
    for w in work:
        w.write({"name": "channel", "channel": channel})
        w.new.save()
        files[w.old.pk] = w.new.pk
        here = FileKeys(w.old.pk, w.new.pk, w.follow()[0] if w.made else None)
        now = str(w.channel)
        kept = rekeyed(settings["shelved"][now], here.keys)
        settings = FileKeys(w.old.pk, w.new.pk, None).settings(settings)
        settings["shelved"][now] = kept
        left_out = [n for k in left_out for n in here.keys(k)]
    back = Back(project, again, [files[f] for f in head.files])
    transforms = {}
    for file in steps(
        job, SourceFile.objects.filter(pk__in=files.values()), lambda f: f"Reading channel {channel} of {f.name}", (0.4, 0.8)
    ):
        reading = Reading.objects.filter(file=file, channel=channel).first()
        if reading is None:
            reading = make_reading(file, kept_scene(file), channel)
            reading.save()
        transforms[str(file.pk)] = back.rows.get(file.pk, identity(reading))
    snapshot = Snapshot(files=[files[f] for f in head.files], left_out=left_out, settings=settings)
    layout = Layout(project=project, kind="import", channel=channel, transforms=pack_arrays(transforms), recipe={})
    parts = parts_of(choose(snapshot, whole=True))
    measure(layout, parts, parts.whole(transforms), settings, stop=stop)
    snapshot.layout = layout
    kept_tries = back.tries(snapshot)
    land(project, head, layout, f"Read channel {channel}", settings=settings, kept=kept_tries, files=snapshot.files, left_out=left_out)


def _laid(job: Job, head: Snapshot, before: Layout) -> list[Revision]:
    """The files whose layout was changed, with the UVs that it gives, in the channel that each mesh is written to."""
    settings, transforms = settings_of(head), arrays_of(before, "transforms")
    work = []
    both = list(zip(choose(head), opened(head), strict=True))
    for c, w in steps(job, both, lambda b: f"Keeping the layout of {b[1].old.name}", (0.0, 0.4)):
        rows = transforms[str(w.old.pk)]
        if np.array_equal(rows, np.tile(IDENTITY, (len(rows), 1))):
            continue
        one = formats.named(w.scene.format).one_channel
        for m, channel in channels_of(c, settings).items():
            skin, laying = w.laying(m)
            made = revised(skin, laid_out(laying, w.rows(m, rows)), np.zeros(len(skin.kept), bool))
            to = 0 if one else channel
            (w.made if to == w.channel else w.also.setdefault(to, {}))[m] = made
        work.append(w)
    return work


def _is_there(head: Snapshot, work: list[Revision], channel: int) -> bool:
    """Whether anything has UVs in a channel, as it came or once the layout is kept there."""
    files = SourceFile.objects.filter(pk__in=head.files)
    return any(channel in w.also for w in work) or any(channel in m.channels for f in files for m in kept_scene(f).meshes)


def _next(settings: dict[str, Any], channel: int, laid: bool, shelf: dict[str, Any]) -> dict[str, Any]:
    """The settings with another channel: what was shelved with it, or what holds for whole objects where nothing was; once something was laid out, with a
    sheet of its own. `shelf`: what is kept of the present one beside its settings."""
    now = str(settings["channel_in"])
    out = settings | {"channel_in": channel}
    if settings["channel_out"] == settings["channel_in"]:
        # What was written where it was read stays so: another channel is not to be written over unasked.
        out["channel_out"] = channel
    shelved = settings["shelved"] | {now: {k: settings[k] for k in SHELVED} | shelf}
    again = shelved.pop(str(channel), None)
    out["shelved"] = shelved
    if again is not None:
        out |= {k: again[k] for k in SHELVED if k in again}
        # A recipe may be gone meanwhile.
        out["sheets"] = [s | {"recipe": s["recipe"] if s["recipe"] in settings["recipes"] else ""} for s in again["sheets"]]
        return out
    for rule in BY_KEY:
        # What holds for single islands counts islands of the old channel.
        out[rule] = {k: v for k, v in settings[rule].items() if "/" in k}
    out |= {"held": [], "twins": [], "bunches": []}
    return out | ({"sheets": [], "sheet_of": {}, "tile_of": {}} if laid else {})


KINDS = (Kind("channel", run_channel, Channel),)
