"""A copy of a project: files and layout as they are now, with a history of its own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from quilt_core.arrays import pack_arrays, unpack_arrays

from .keys import rekeyed
from .models import Layout, Project, Reading, Snapshot, SourceFile
from .stale import inputs_of
from .state import advance, all_work, settings_of


def copied(source: Project) -> Project:
    """A new project with the files, settings, layout and kept tries of another. Originals are shared by hash."""
    copy = Project.objects.create(name=f"{source.name} (copy)"[:120])
    if source.head is None:
        return copy
    files: dict[int, int] = {}
    wanted = list(SourceFile.objects.filter(pk__in=source.head.files))
    while older := [f.before for f in wanted if f.before is not None and f.before not in wanted]:
        wanted = [*older, *wanted]
    for file in sorted(wanted, key=lambda f: f.pk):
        old = file.pk
        file.pk, file.project, file._state.adding = None, copy, True
        file.before_id = files.get(file.before_id) if file.before_id else None
        file.save()
        files[old] = file.pk
        for reading in Reading.objects.filter(file_id=old):
            reading.pk, reading.file, reading._state.adding = None, file, True
            reading.save()
    _head(source.head, copy, files)
    return copy


def key_of_copy(key: str, files: Mapping[int, int | str]) -> str:
    """The key of an object or island with its file's new number, or its name."""
    sign = "/" if "/" in key else ":"
    file, _, number = key.partition(sign)
    return f"{files.get(int(file), 0)}{sign}{number}"


def settings_of_copy(settings: dict[str, Any], files: Mapping[int, int | str]) -> dict[str, Any]:
    """Settings whose rules follow files with other numbers."""

    def keys(k: str) -> list[str]:
        return [key_of_copy(k, files)]

    return rekeyed(settings, keys) | {
        # Tries are rows of one project, so that a channel comes back without its own in another.
        "shelved": {c: rekeyed(rules, keys) | {"layout": None, "kept": {}} for c, rules in settings.get("shelved", {}).items()},
    }


def figures_of_copy(figures: Any, files: Mapping[int, int | str]) -> Any:
    """Figures whose names of islands point into the copy's files."""
    if isinstance(figures, dict):
        named = {k: [key_of_copy(x, files) for x in v] for k, v in figures.items() if k in ("gap_at", "margin_at")}
        pairs = {k: [files.get(v[0], 0), v[1]] for k, v in figures.items() if k in ("island", "other") and v is not None}
        return {k: figures_of_copy(v, files) for k, v in figures.items()} | named | pairs
    return [figures_of_copy(v, files) for v in figures] if isinstance(figures, list) else figures


def _layout(layout: Layout, copy: Project, files: dict[int, int]) -> Layout:
    def blob(data: bytes) -> bytes:
        return pack_arrays({str(files[int(k)]): v for k, v in unpack_arrays(data).items() if int(k) in files}) if data else b""

    layout.figures = figures_of_copy(layout.figures, files)
    layout.pieces = [[files.get(file, 0), first, count] for file, first, count in layout.pieces]
    layout.recipe = settings_of_copy(settings_of(None) | layout.recipe, files)
    layout.transforms, layout.members, layout.inputs = blob(bytes(layout.transforms)), blob(bytes(layout.members)), {}
    layout.pk, layout.project, layout._state.adding = None, copy, True
    layout.save()
    return layout


def _head(head: Snapshot, copy: Project, files: dict[int, int]) -> None:
    kept: dict[str, int] = {}
    layout = head.layout
    for sheet, number in head.kept.items():
        try_ = Layout.objects.filter(pk=number).first()
        if try_ is not None:
            kept[sheet] = _layout(try_, copy, files).pk
    if layout is not None:
        same = next((kept[s] for s, number in head.kept.items() if number == layout.pk and s in kept), None)
        layout = Layout.objects.get(pk=same) if same else _layout(layout, copy, files)
    after = advance(
        copy, "Copy", head, layout, files=[files[f] for f in head.files if f in files], left_out=[key_of_copy(k, files) for k in head.left_out],
        settings=settings_of_copy(settings_of(head), files), kept=kept, work=all_work(head),
    )  # fmt: skip
    was, now = inputs_of(head), inputs_of(after)
    for sheet, number in kept.items():
        try_, old = Layout.objects.get(pk=number), Layout.objects.get(pk=head.kept[sheet]).inputs
        if old and int(sheet) in now:
            # What was the same in the source is the same here, under the copy's own numbers; what was stale stays so.
            try_.inputs = {k: now[int(sheet)][k] if old[k] == was[int(sheet)][k] else old[k] for k in old}
            try_.save(update_fields=["inputs"])
