"""A saved project opened: every part is proven before anything is believed, and rows get numbers of their own here. See `saving`."""

from __future__ import annotations

import hashlib
import json
import logging
import posixpath
import zipfile
from collections.abc import Callable, Iterable, Mapping
from copy import copy
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from django.db import connections
from pydantic import ValidationError

from quilt_cli.child import FINDING, Limit, bounded, bytes_of
from quilt_core.arrays import pack_arrays, unpack_arrays
from quilt_core.errors import FileError, QuiltError
from quilt_core.words import UNSHOWN, cut

from ..archives import DAMAGED, Most, check_entries, clean_path
from ..checks import check
from ..ours import of_machine
from ..schemas.settings import Settings
from ..schemas.state import StateOut
from ..states import state_of
from . import files as kept_files
from .copies import figures_of_copy, key_of_copy, settings_of_copy
from .faults import fault_rows
from .measuring import VERSION as MEASURED
from .measuring import measure
from .models import Layout, Project, ProjectBlob, Reading, Snapshot, SourceFile
from .reading import choose, parts_of
from .saved_tables import SnapshotRow, Tables
from .saving import BLOBS, FORMAT, VERSION
from .sources import kept_scene, make_reading, store
from .stale import inputs_of
from .state import RECIPE

_LARGEST_TABLE = 512 << 20
MOST_PARTS = 200_000
_SAID = ("seconds", "passes", "limiting", "tiles_filled", "move", "spans", "strays")  # figures that measuring does not make
log = logging.getLogger("quilt")


class Opened:
    """The file of a project while it is opened. `most`: what an upload may hold; `say` tells how far it is."""

    def __init__(self, name: str, path: Path, most: Most, say: Callable[[str, float], None]) -> None:
        self.name, self.say = name, say
        try:
            self.archive = zipfile.ZipFile(path)
            manifest = json.loads(self._read("manifest.json", 64 << 20))
            self.parts = {str(p["path"]): (int(p["bytes"]), str(p["sha256"])) for p in manifest["parts"]}
            if manifest["format"] != FORMAT:
                raise self.fail("it is no saved project", "Choose a file that was saved here, or bring meshes into a project.")
            needs = int(manifest["needs"])
            if any(e.file_size != self.parts[e.filename][0] for e in self.archive.infolist() if e.filename in self.parts):
                raise ValueError("a part has another size than the manifest says")
            check_entries(name, self.archive.infolist(), replace(most, files=MOST_PARTS))
        except (*DAMAGED, TypeError) as e:
            raise self.fail("it is no saved project, or damaged", "Save it again, or choose another file.") from e
        if needs > VERSION:
            raise self.fail(f"a newer program saved it (version {needs}; this one reads {VERSION})", "Bring this program up to date.")
        try:
            self.tables = Tables.model_validate_json(self.part("project.json", _LARGEST_TABLE))
        except ValidationError as e:
            place = ".".join(str(x) for x in e.errors()[0]["loc"])
            raise self.fail(f"its table '{place[:60]}' is damaged", "Save it again.") from e

    def fail(self, what: str, remedy: str) -> FileError:
        """An error about this file."""
        return FileError(self.name, what, "", remedy)

    def _read(self, path: str, most: int) -> bytes:
        if self.archive.getinfo(path).file_size > most:
            raise ValueError(path)
        return self.archive.read(path)

    def part(self, path: str, most: int | None = None) -> bytes:
        """A part of the file, as it was saved.

        Raises
        ------
        FileError : it is missing or other than it was
        """
        size, sha = self.parts.get(path, (-1, ""))
        try:
            if not 0 <= size <= (most or size) or self.archive.getinfo(path).file_size != size:
                raise ValueError(path)
            body = self.archive.read(path)
        except DAMAGED as e:
            raise self.fail(f"its part '{path[:80]}' is missing or damaged", "Save it again, or copy the file again.") from e
        if hashlib.sha256(body).hexdigest() != sha:
            raise self.fail(f"its part '{path[:80]}' is not what was saved", "Save it again, or copy the file again.")
        return body

    def into(self, project: Project) -> None:
        """Make it the content of an empty project, which has no state before the last step of this.

        Raises
        ------
        QuiltError : damaged, or a file in it cannot be read
        """
        t = self.tables
        self.originals = {p.partition("/")[2] for p in self.parts if p.startswith("originals/")}
        for n, sha in enumerate(sorted(self.originals)):
            self.say("Taking its files out", 0.3 * n / max(1, len(self.originals)))
            body = self.part(f"originals/{sha}")
            if hashlib.sha256(body).hexdigest() != sha:
                raise self.fail(f"its original {sha[:12]} is not what it is called", "Save it again.")
            store(body)
        ProjectBlob.hold(project.pk, self.originals)
        blobs = {x.id: {k: self.part(f"layouts/{x.id}/{k}") for k in BLOBS} for x in t.layouts}
        try:
            numbers = self._files(project)
            self._readings(numbers)
            self._snapshots(project, numbers, self._layouts(project, numbers, blobs))
        except QuiltError:
            raise
        except (
            Exception
        ) as e:  # tables that anybody may have written: whatever they break is theirs, but for what is wrong with the machine
            if of_machine(e) is not None:
                raise
            log.exception("a saved project could not be opened")
            raise self.fail("what is in it does not hang together", "Save it again.") from e

    def named(self, project: Project) -> str:
        """Give the project the name that it was saved under."""
        name = cut(str(self.tables.project.get("name") or project.name), 116)
        Project.objects.filter(pk=project.pk).update(name=name)
        return name

    def _files(self, project: Project) -> dict[int, int]:
        numbers: dict[int, int] = {}
        for f in sorted(self.tables.files, key=lambda f: f.id):
            row = f.model_dump(exclude={"id", "before_id"})
            shas = {f.original_id, *f.companions.values(), *([f.revision] if f.revision else [])}
            shas |= {sha for m in f.materials for sha in m.get("images", {}).values()}
            # Only what came in the file itself: that the data folder has a hash says nothing about who may see it.
            if not shas <= self.originals:
                raise self.fail(f"what {f.name} was made of is not in it", "Save it again.")
            if f.before_id is not None and f.before_id not in numbers:
                raise self.fail(f"what {f.name} was made from is not in it", "Save it again.")
            if not _is_inside(f.name, f.companions):
                raise self.fail(f"the name '{cut(f.name)}' in it leads out of its folder", "Save it again.")
            made = SourceFile.objects.create(project=project, before_id=numbers.get(f.before_id) if f.before_id else None, **row)
            numbers[f.id] = made.pk
        return numbers

    def _readings(self, numbers: Mapping[int, int]) -> None:
        wanted = sorted({(f, int(s.settings.get("channel_in", 0))) for s in self.tables.snapshots for f in s.files})
        for n, (old, channel) in enumerate(wanted):
            if old not in numbers or not 0 <= channel <= 7:
                raise self.fail("a state in it names a file that is not in it", "Save it again.")
            file = SourceFile.objects.get(pk=numbers[old])
            self.say(f"Reading {file.name}", 0.3 + 0.5 * n / max(1, len(wanted)))
            _read(file, channel).save()

    def _layouts(self, project: Project, numbers: Mapping[int, int], blobs: Mapping[int, Mapping[str, bytes]]) -> dict[int, Layout]:
        counts: dict[int, set[int]] = {}
        for r in Reading.objects.filter(file_id__in=numbers.values()).only("file_id", "objects_info"):
            counts.setdefault(r.file_id, set()).add(r.objects_info[0]["file_islands"] if r.objects_info else 0)
        out = {}
        files = dict(numbers)
        for x in self.tables.layouts:
            blob = {k: self._renumbered(blobs[x.id][k], files, counts, k == "transforms") for k in ("transforms", "members")}
            whole = all(p[0] in files for p in x.pieces)
            made = Layout(
                project=project, kind=x.kind, name=x.name, channel=x.channel, discarded=x.discarded, sheet=x.sheet, inputs={}, **blob,
                figures=figures_of_copy(x.figures, files), recipe=settings_of_copy(RECIPE | x.recipe, files) if x.recipe else {},
                picture=blobs[x.id]["picture"], pieces=[[files.get(f, 0), first, count] for f, first, count in x.pieces],
                measured=x.measured if x.measured == MEASURED and whole else 0, findings=blobs[x.id]["findings"] if x.measured == MEASURED and whole else b"",
            )  # fmt: skip
            if made.findings:
                self._checked(partial(unpack_arrays, made.findings))
            made.save()
            out[x.id] = made
        return out

    def _checked(self, work: Callable[[], Any]) -> Any:
        try:
            return work()
        except Exception as e:
            raise self.fail("one of its layouts is damaged", "Save it again.") from e

    def _renumbered(self, blob: bytes, files: Mapping[int, int], counts: Mapping[int, set[int]], rows: bool) -> bytes:
        if not blob:
            return b""
        found = self._checked(lambda: {int(k): np.array(v) for k, v in unpack_arrays(blob).items()})
        out = {}
        for old, values in found.items():
            if old not in files:
                continue
            if rows and (values.ndim != 2 or values.shape[1] != 5 or not np.isfinite(values).all() or np.abs(values).max(initial=0) > 1e9):
                raise self.fail("one of its layouts is damaged", "Save it again.")
            if files[old] in counts and len(values) not in counts[files[old]]:
                raise self.fail("one of its layouts is of other islands than its files have", "Save it again.")
            out[str(files[old])] = values
        return pack_arrays(out)

    def _snapshots(self, project: Project, numbers: Mapping[int, int], layouts: Mapping[int, Layout]) -> None:
        files, made = dict(numbers), dict[int, Snapshot]()
        for s in sorted(self.tables.snapshots, key=lambda s: s.id):
            if s.layout_id is not None and s.layout_id not in layouts:
                raise self.fail(f"the layout of its step '{cut(s.label, 40)}' is not in it", "Save it again.")
            settings = self._settings(s, files)
            layout = layouts.get(s.layout_id) if s.layout_id else None
            made[s.id] = Snapshot.objects.create(
                project=project, parent=made.get(s.parent_id) if s.parent_id else None, label=s.label, layout=layout, files=[files[f] for f in s.files],
                left_out=[key_of_copy(k, files) for k in s.left_out], settings=settings, kept={k: layouts[v].pk for k, v in s.kept.items() if v in layouts},
                work=[w.model_dump(exclude_unset=True) for w in s.work],
            )  # fmt: skip
        head = made.get(self.tables.head) if self.tables.head is not None else None
        states = {x.pk: state for state in made.values() if (x := state.layout) is not None}
        for layout in layouts.values():
            if layout.measured != MEASURED:
                self.say("Measuring its layouts", 0.9)
                self._again(layout, states.get(layout.pk), head, made.values())
        for state in made.values():
            self._believed(project, state)
        Project.objects.filter(pk=project.pk).update(head=head)
        if head is not None:
            now = inputs_of(head)
            for sheet, keys in self.tables.fresh.items():
                if sheet in head.kept and sheet.isdecimal() and int(sheet) in now:
                    old = next((x.inputs for x in self.tables.layouts if x.id in layouts and layouts[x.id].pk == head.kept[sheet]), {})
                    inputs = {k: now[int(sheet)].get(k) if k in keys else old[k] for k in old}
                    Layout.objects.filter(pk=head.kept[sheet]).update(inputs=inputs)
            _told(project, head)

    def _again(self, layout: Layout, state: Snapshot | None, head: Snapshot | None, states: Iterable[Snapshot]) -> None:
        """Measure a layout that another version measured, as the state shows it that it is of; a try that none shows on the files of the head, and one of files
        that were replaced since is left out."""
        if state is not None:
            return _measure(layout, state)
        rows = unpack_arrays(bytes(layout.transforms))
        if head is not None and {str(f) for f in head.files} <= set(rows):
            _measure(layout, Snapshot(files=head.files, left_out=head.left_out, settings=RECIPE | layout.recipe))
            return
        for s in states:
            if layout.pk in s.kept.values():
                s.kept = {k: v for k, v in s.kept.items() if v != layout.pk}
                s.save()
        layout.delete()

    def _settings(self, s: SnapshotRow, files: dict[int, int]) -> dict[str, Any]:
        """A state's settings, checked as those that a page sends; of pictures under tiles those that came in the file."""
        try:
            found = Settings(**settings_of_copy(RECIPE | s.settings, files))
            pictures = {k: p for k, p in found.pictures.items() if p.sha in self.originals}
            check(found.model_copy(update={"pictures": {}}))
        except (QuiltError, ValidationError, ValueError, KeyError, TypeError, AttributeError) as e:
            raise self.fail(f"the settings of its step '{cut(s.label, 40)}' are damaged", "Save it again.") from e
        return found.model_copy(update={"pictures": pictures}).model_dump()

    def _believed(self, project: Project, snapshot: Snapshot) -> None:
        """Keep what is said of a state's layout where the page can be made from it; else measure it."""
        layout = snapshot.layout
        try:
            return _told(project, snapshot)
        except Exception:
            if layout is None:
                raise
        log.info("the figures of a saved layout are not as this version has them")
        _measure(layout, snapshot)
        _told(project, snapshot)


def _measure(layout: Layout, snapshot: Snapshot) -> None:
    """Measure a layout as a state shows it; what a packing said of itself stays."""
    said = {k: v for k, v in layout.figures.items() if k in _SAID}
    parts = parts_of(choose(snapshot, whole=True))
    measure(layout, parts, parts.whole(unpack_arrays(bytes(layout.transforms))), snapshot.settings)
    layout.figures = layout.figures | said
    layout.save()


def _told(project: Project, snapshot: Snapshot) -> None:
    """Make what the page asks of a state, and check it against its schema."""
    shown = copy(project)
    shown.head = snapshot
    StateOut(**state_of(shown))
    fault_rows(snapshot)


def _is_inside(name: str, companions: Iterable[str]) -> bool:
    """Whether a file's name is one that an upload could have, and what belongs to it stands nowhere above all of them."""
    try:
        plain = clean_path(name) == name
    except QuiltError:
        return False
    places = (posixpath.normpath(posixpath.join(posixpath.dirname(name), c)) for c in companions)
    return plain and not any(p.startswith(("..", "/")) or UNSHOWN.search(p) for p in places)


def _read(file: SourceFile, channel: int) -> Reading:
    """What a file holds in a channel, not saved yet; read in a child with bounds, as one that is brought in is."""
    size = sum(kept_files.path_of(sha).stat().st_size for sha in (file.original_id, *file.companions.values()))
    connections.close_all()  # the child opens its own

    def work(limit: Limit) -> Reading:
        scene = kept_scene(file)
        limit.allow(FINDING, bytes_of(scene))
        return make_reading(file, scene, channel)

    return bounded(work, file.name, size)
