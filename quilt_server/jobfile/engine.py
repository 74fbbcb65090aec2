"""Doing a job without a browser: the same work on a project of its own, in a data folder that is thrown away."""

from __future__ import annotations

import hashlib
import io
import os
import time
import zipfile
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from quilt_core.errors import FileError, NothingToDo, QuiltError

from ..jobs.kinds import ALL, checked
from ..jobs.progress import heard_by
from ..projects.doing import doing
from ..projects.models import Job, Project, Snapshot, SourceFile
from ..projects.objects import detail_of
from ..projects.sheets import sheets
from ..projects.sources import as_it_first_came, store_parts
from ..projects.stale import inputs_of
from ..projects.state import readings, settings_of, source_files
from .model import UNITS, JobFile, Unit
from .setting import ruled, settings_of_job
from .steps import MAKES_UVS, numbered, params_of
from .who import People, fits

Tell = Callable[[str, float | None], None]


@dataclass
class Done:
    """What a job came to: the files that it puts out by path, its figures, and in words what was not done as the job says."""

    files: dict[str, bytes] = field(default_factory=dict)
    figures: dict[str, Any] = field(default_factory=dict)
    bake: dict[str, Any] | None = None
    notes: list[str] = field(default_factory=list)
    steps: list[dict[str, Any]] = field(default_factory=list)
    read: dict[str, str] = field(default_factory=dict)  # every file that was read, by its path below the folder, with its SHA-256

    @property
    def ok(self) -> bool:
        """Whether what was written passes its proof."""
        return bool(self.figures.get("ok"))


class Above(Exception):
    """What a mesh refers to lies above the folder of the input: its folder is to be one above both, so that all that is written lies in one place."""


class Engine:
    """A job on its project.

    folder : of the input, None where all came along; root : a folder above it in which what the meshes refer to may lie, too
    tell : hears how far it is; project : an empty one, None for a new one
    """

    def __init__(
        self, job: JobFile, folder: Path | None, tell: Tell = lambda *_: None, project: Project | None = None, root: Path | None = None
    ) -> None:
        self.job, self.folder, self.tell, self.root = job, folder, tell, root
        self.done = Done()
        self.project = project or Project(name=(job.name or "Job")[:120])

    def run(self, files: list[str]) -> Done:
        """Do the job with these files, by path below the folder.

        Raises
        ------
        FileError : a file that cannot be read; DoesNotFit; QuiltError : what cannot be done
        """
        self.project.save()
        self.laid_out(files, self.taken_in(files))
        with heard_by(self.tell):
            self._put_out()
        return self.done

    def taken_in(self, files: list[str]) -> list[dict[str, str]]:
        """Keep files of the folder in the data folder; path and hash of each.

        Raises
        ------
        FileError : one that cannot be read
        """
        assert self.folder is not None
        for name in files:
            self.tell(f"Taking {name} in", None)
            self.done.read[name] = _kept(self.folder / name, name)
        return [{"path": name, "sha": self.done.read[name]} for name in files]

    def laid_out(self, files: list[str], stored: list[dict[str, str]]) -> Done:
        """Do all but what is written: the project is then as the job says.

        Parameters
        ----------
        files : the meshes, by path; stored : path and hash of what is there of them and of what lies beside them
        """
        with heard_by(self.tell):
            self._begin(files, stored)
            self._steps()
        return self.done

    def picture(self) -> bytes:
        """PNG of the first sheet as it lies, at most 640 px wide."""
        return bytes(self.head.layout.picture) if self.head.layout else b""

    def save(self, target: Path) -> None:
        """Keep the project as one file, with its steps.

        Raises
        ------
        FileError : it cannot be written
        """
        from ..projects.saving import save

        try:
            save(Project.objects.get(pk=self.project.pk), target, True)
        except OSError as e:
            raise FileError(str(target), e.strerror or "it cannot be written") from e

    def _begin(self, files: list[str], stored: list[dict[str, str]]) -> None:
        """The files in the project, with the settings of the job."""
        job = self.job
        settings = settings_of_job(job)
        self.project.head = Snapshot.objects.create(project=self.project, label="A job", settings=settings)
        self.project.save(update_fields=["head", "modified"])
        params = {"files": stored, "order": files, "unit_m": _metres(job.input.unit)}
        if self.folder is not None:
            params |= {"folder": str(self.folder.resolve()), "root": str((self.root or self.folder).resolve())}
        row = self._do("import", params, given=True)
        if row.result.get("refused"):
            first = row.result["refused"][0]
            raise FileError(first["file"], first["why"].removeprefix(f"{first['file']}: ").rstrip("."))
        self._companions()
        units = {
            str(k): _metres(u.unit)
            for u in job.input.units
            for k, f in source_files(self.head).items()
            if fits(f.name, u.files) and f.unit_m != _metres(u.unit)
        }
        if units:
            self._do("units", {"units": units})

    def _companions(self) -> None:
        """Write down what was read beside the meshes."""
        for f in source_files(self.head).values():
            for path, sha in f.companions.items():
                beside = os.path.normpath((Path(f.name).parent / path).as_posix())
                if beside.startswith(".."):
                    raise Above
                self.done.read[Path(beside).as_posix()] = sha

    @property
    def head(self) -> Snapshot:
        """The project's state now."""
        found = Project.objects.get(pk=self.project.pk).head
        assert found is not None
        return found

    def _do(self, kind: str, params: dict[str, Any], given: bool = False) -> Job:
        """Do a job as the worker would; `given`: its parameters are no one's but ours."""
        head = self.head
        params = params if given else checked(kind, params, settings_of(head))
        # Nobody waits for it by itself, and where this process ends it is not left as work that goes on.
        row = Job.objects.create(project=self.project, kind=kind, state="done", params={"base": head.pk, **params})
        try:
            with doing(kind, row.params):
                ALL[kind].run(row)
        except BaseException:
            Job.objects.filter(pk=row.pk).update(state="failed")
            raise
        row.save()
        return row

    def _steps(self) -> None:
        """The rules and the steps, in order, and the packing where no step packs."""
        steps = list(self.job.steps)
        strangers = self._strangers()
        self._rule(strangers, islands=False)
        last = max((n for n, s in enumerate(steps) if s.do in MAKES_UVS), default=-1)
        for n, step in enumerate(steps):
            if n == last + 1:
                self._rule(strangers, islands=True)
            self._step(n + 1, step, strangers)
        if last == len(steps) - 1:
            self._rule(strangers, islands=True)
        if self.job.pack and not any(s.do in ("pack", "ready") for s in steps):
            self._pack_all()

    def _pack_all(self) -> None:
        numbers = [number for number, made_from in inputs_of(self.head).items() if made_from["count"]]
        if numbers:
            self._timed("pack", lambda: self._do("pack", {"sheets": numbers}))

    def _strangers(self) -> frozenset[int]:
        """The files that are others than those of which something is told by number."""
        seen = self.job.input.seen
        return frozenset(
            k for k, f in source_files(self.head).items() if f.name in seen and as_it_first_came(f).original_id != seen[f.name]
        )

    def _rule(self, strangers: frozenset[int], islands: bool) -> None:
        """Take over the rules of the job as one step."""
        head = self.head
        found = ruled(self.job, People(head), settings_of(head), _made_of(head, strangers), islands)
        if islands:
            self.done.notes += [n for n in found.notes if n not in self.done.notes]
        if found.left_out != list(head.left_out):
            self._do("objects", {"left_out": found.left_out})
        if found.settings != settings_of(self.head):
            self._do("settings", {"settings": found.settings})

    def _step(self, number: int, step: BaseModel, strangers: frozenset[int]) -> None:
        kind = str(step.do)  # type: ignore[attr-defined]
        people = People(self.head)
        foreign = {people.names[k] for k in _made_of(self.head, strangers)}
        if told := sorted(numbered(step) & foreign):
            self.done.notes.append(f"steps[{number}], {kind}, was picked by hand on another {told[0]}, so it is left out.")
            return
        if gone := sorted(numbered(step) - set(people.numbers)):
            self.done.notes.append(f"steps[{number}], {kind}, is for {gone[0]}, which is not here, so it is left out.")
            return
        try:
            params = params_of(step, people, settings_of(self.head))
            row = self._timed(kind, lambda: self._do(kind, params))
        except NothingToDo as e:
            self.done.notes.append(f"steps[{number}], {kind}: {e}")
            return
        except QuiltError as e:
            if type(e) is not QuiltError:
                raise
            raise QuiltError(f"steps[{number}], {kind}: {e}") from e
        self.done.notes += [f"steps[{number}], {kind}: {text}" for text in _refused(row.result)]
        if note := row.result.get("note"):
            self.done.notes.append(f"steps[{number}], {kind}: {note}")

    def _timed(self, kind: str, work: Callable[[], Job]) -> Job:
        begin = time.monotonic()
        row = work()
        self.done.steps.append({"do": kind, "seconds": round(time.monotonic() - begin, 2)})
        return row

    def _put_out(self) -> None:
        """Bake and deliver what the job says."""
        known = {s["name"]: s["id"] for s in sheets(settings_of(self.head))}
        if self.job.bake is not None:
            asked = self.job.bake.model_dump(exclude_none=True)
            asked["pairs"] = self._pairs(asked.get("pairs") or {})
            row = self._timed("bake", lambda: self._do("bake", _on_sheet(asked, known)))
            self.done.bake = row.result
            with zipfile.ZipFile(io.BytesIO(row.output)) as archive:
                self.done.files |= {f"bake/{n}": archive.read(n) for n in archive.namelist()}
        order = self.job.delivery.model_dump(by_alias=True)
        order["channels"] = [c.model_dump(by_alias=True) for c in self.job.delivery.channels]
        row = self._timed("deliver", lambda: self._do("deliver", _on_sheet(order, known)))
        self.done.figures = row.result["figures"]
        self.done.notes += [n for n in self.done.figures.get("notes", []) if n not in self.done.notes]
        with zipfile.ZipFile(io.BytesIO(row.output)) as archive:
            self.done.files |= {n: archive.read(n) for n in archive.namelist()}

    def _pairs(self, pairs: dict[str, str]) -> dict[str, str]:
        keys = {o.name: o.key for o in reversed(People(self.head).objects)}
        if gone := [n for pair in pairs.items() for n in pair if n not in keys]:
            raise QuiltError(f"bake.pairs names '{gone[0]}', and no object is called so.")
        return {keys[low]: keys[high] for low, high in pairs.items()}


def _on_sheet(order: dict[str, Any], known: dict[str, int]) -> dict[str, Any]:
    name = order.get("sheet")
    if name is None:
        return order
    if name not in known:
        raise QuiltError(f"There is no sheet '{name}': there are {', '.join(known)}.")
    return order | {"sheet": known[name]}


def _made_of(head: Snapshot, strangers: frozenset[int]) -> frozenset[int]:
    """The files of a state that are some files or were made from them: they have other numbers once their UVs were made anew."""

    def among(f: SourceFile | None) -> bool:
        while f is not None:
            if f.pk in strangers:
                return True
            f = f.before
        return False

    return frozenset(k for k, f in source_files(head).items() if among(f))


def _refused(result: dict[str, Any]) -> list[str]:
    """What a job did not do, in words."""
    rows = [r for r in result.get("objects", []) if isinstance(r, dict)]
    out = [f"{r.get('name', '')}: {r['why']}" for r in rows if r.get("why")]
    out += [str(x) for x in result.get("refused", []) if isinstance(x, str)]
    return out[:50]


def _metres(unit: Unit) -> float:
    return UNITS[unit] if isinstance(unit, str) else float(unit)


def _kept(path: Path, name: str) -> str:
    """Keep a file of the input in the data folder; returns its SHA-256."""
    try:
        with path.open("rb") as f:
            return store_parts(iter(lambda: f.read(1 << 20), b""))
    except OSError as e:
        raise FileError(name, e.strerror or "it cannot be opened") from e


def figures_of(done: Done, head: Snapshot) -> dict[str, Any]:
    """The figures of a job in short."""
    f = done.figures
    rows = list(f.get("sheets", {}).values())
    given = detail_of(head)
    infos = [(f"{r.file_id}/{n}", info) for r in readings(head) for n, info in enumerate(r.objects_info)]
    return {
        "ok": done.ok,
        "bare": [info["name"] for key, info in infos if info["bare"] and key not in head.left_out and key not in given],
        "islands": f.get("islands", 0),
        "objects": len(infos),
        "overlap_pairs": f.get("overlap_pairs", 0),
        "coverage": sum(r["coverage"] for r in rows) / len(rows) if rows else None,
        "density_px_per_m": rows[0].get("density") if len(rows) == 1 else None,
        "sheets": {
            name: {
                k: r.get(k) for k in ("ok", "verdict", "reasons", "coverage", "density", "smallest_gap_px", "smallest_margin_px", "islands")
            }
            for name, r in f.get("sheets", {}).items()
        },
    }


def reported(done: Done, engine: Engine, key: str, meshes: list[str], seconds: float) -> dict[str, Any]:
    """What a run came to, for the report and for the next run."""
    return {
        **figures_of(done, engine.head), "steps": done.steps, "notes": done.notes, "bake": done.bake, "seconds": round(seconds, 2), "meshes": meshes,
        "read": done.read, "files": {p: hashlib.sha256(b).hexdigest() for p, b in sorted(done.files.items())}, "key": key,
    }  # fmt: skip
