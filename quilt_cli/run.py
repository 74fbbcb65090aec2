"""`quilt run JOB`: a job file done without a browser; what is there already and fits what it was made from is not made again."""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import shutil
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from quilt_core.errors import FileError, QuiltError

REPORT = "run.json"


def add(commands: Any) -> None:
    """The words of the command."""
    c = commands.add_parser("run", help="do a job file: the same as in the browser, without one")
    c.add_argument("job", type=Path, metavar="JOB", help="a job file, .toml or .json; docs/jobs.md says what stands in it")
    c.add_argument("--in", type=Path, dest="folder", metavar="DIR", help="the folder of the mesh files (that of the job file)")
    c.add_argument("--out", type=Path, metavar="DIR", help="another folder, for what is written (NAME-out beside the job file)")
    c.add_argument(
        "--set", action="append", default=[], metavar="KEY=VALUE", help="another value for this run, as recipe.map_px=1024; repeatable"
    )
    c.add_argument("--force", action="store_true", help="do it again even where nothing has changed")
    c.add_argument("--save", type=Path, metavar="FILE", help="also keep the project, as one file that the browser opens")
    c.add_argument("--check", action="store_true", help="only say whether the job file is one, and which files it takes in")
    c.add_argument("--json", action="store_true", help="print the report as JSON, and nothing else")


def run(args: argparse.Namespace) -> int:
    """Do it; the exit code of `cli.md`."""
    folder = args.folder or args.job.parent
    out = args.out or args.job.parent / f"{args.job.stem}-out"
    if out.resolve() == folder.resolve():
        raise FileError(str(out), "the results would lie among the mesh files", "", "Choose another folder for --out.")
    try:
        body = args.job.read_bytes()
    except OSError as e:
        raise FileError(str(args.job), e.strerror or "it cannot be opened") from e
    from quilt_server.jobfile.place import own_place

    with own_place():
        from quilt_server.jobfile import text
        from quilt_server.jobfile.engine import Engine, found_files

        name = args.job.name
        job = text.parsed(text.with_set(text.loaded(body, name), args.set), name)
        meshes = found_files(job, folder, out)
        if args.check:
            _say(
                args,
                {"ok": True, "files": meshes},
                [f"{name} is a job file.", f"It takes in {len(meshes)} files:", *(f"  {m}" for m in meshes)],
            )
            return 0
        key = key_of(text.written(job, ".json"))
        old = None if args.force or args.save else unchanged(out, folder, key, meshes)
        if old is not None:
            _say(args, old | {"state": "unchanged"}, [*lines(old), "Nothing has changed since: it was not made again."])
            return 0 if old["ok"] else 1
        begin = time.monotonic()
        line = Line()
        engine = Engine(job, folder, line)
        try:
            done = engine.run(meshes)
        finally:
            line.end()
        report = reported(done, engine, key, meshes, time.monotonic() - begin)
        write(out, done.files, report)
        if args.save:
            engine.save(args.save)
    _say(args, report | {"state": "done"}, lines(report))
    return 0 if report["ok"] else 1


def _say(args: argparse.Namespace, report: dict[str, Any], text: list[str]) -> None:
    print(json.dumps(report, indent=2) if args.json else "\n".join(text))


class Line:
    """A line for progress, on a terminal alone."""

    def __init__(self) -> None:
        self.shown = False

    def __call__(self, text: str, part: float | None) -> None:
        if sys.stderr.isatty():
            self.shown = True
            share = "" if part is None else f" {part:4.0%}"
            print(f"\r{text[:90]:90}{share:5}", end="", file=sys.stderr, flush=True)

    def end(self) -> None:
        """Leave the line."""
        if self.shown:
            print(f"\r{'':95}\r", end="", file=sys.stderr, flush=True)


def key_of(job: bytes) -> str:
    """What results belong to, besides the files that were read: the job and the program."""
    found = hashlib.sha256(job)
    top = Path(__file__).resolve().parents[1]
    for package in ("quilt_core", "quilt_server", "quilt_cli"):
        for path in sorted((top / package).rglob("*.py")):
            found.update(path.relative_to(top).as_posix().encode() + b"\0" + path.read_bytes())
    return found.hexdigest()


def unchanged(out: Path, folder: Path, key: str, meshes: list[str]) -> dict[str, Any] | None:
    """The report of an earlier run, where what it was made from and what it put out are as they were; None else."""
    from quilt_server.jobfile.engine import sha_of

    try:
        old = json.loads((out / REPORT).read_bytes())
        same = old["key"] == key and old["meshes"] == meshes
        same = same and all(sha_of(folder / p) == sha for p, sha in old["read"].items())
        return old if same and all(sha_of(out / p) == sha for p, sha in old["files"].items()) else None
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return None


def reported(done: Any, engine: Any, key: str, meshes: list[str], seconds: float) -> dict[str, Any]:
    """What a run came to, for the report and for the next run."""
    from quilt_server.jobfile.engine import figures_of

    return {
        **figures_of(done, engine.head), "steps": done.steps, "notes": done.notes, "bake": done.bake, "seconds": round(seconds, 2), "meshes": meshes,
        "read": done.read, "files": {p: hashlib.sha256(b).hexdigest() for p, b in sorted(done.files.items())}, "key": key,
    }  # fmt: skip


def write(out: Path, files: dict[str, bytes], report: dict[str, Any]) -> None:
    """Put what was made into a folder: each file whole, the report last, and away with what an earlier run put there and this one did not.

    Raises
    ------
    FileError : it cannot be written
    """
    try:
        out.mkdir(parents=True, exist_ok=True)
        old = _files_of(out)
        (out / REPORT).unlink(missing_ok=True)
        new = Path(tempfile.mkdtemp(prefix=".new-", dir=out))
        try:
            for n, (path, body) in enumerate(files.items()):
                target = out / path
                if not target.resolve().is_relative_to(out.resolve()):
                    raise QuiltError(f"'{path}' would lie outside {out}.")
                target.parent.mkdir(parents=True, exist_ok=True)
                (new / str(n)).write_bytes(body)
                os.replace(new / str(n), target)
            for path in old - set(files):
                if (out / path).resolve().is_relative_to(out.resolve()):
                    (out / path).unlink(missing_ok=True)
            (new / REPORT).write_text(json.dumps(report, indent=2) + "\n")
            os.replace(new / REPORT, out / REPORT)
        finally:
            shutil.rmtree(new, ignore_errors=True)
    except OSError as e:
        raise FileError(
            str(e.filename or out), e.strerror or "it cannot be written", "", "Make room, or choose another folder for --out."
        ) from e


def _files_of(out: Path) -> set[str]:
    try:
        return set(json.loads((out / REPORT).read_bytes())["files"])
    except (OSError, ValueError, KeyError, TypeError):
        return set()


def lines(report: dict[str, Any]) -> list[str]:
    """The report in lines."""
    out = []
    for name, s in report["sheets"].items():
        density = f"{s['density']:.1f} px/m" if s["density"] is not None else "no density"
        out.append(
            f"{name}: {s['verdict']}, {s['islands']} islands, coverage {s['coverage']:.2%}, {density}, smallest gap {_px(s['smallest_gap_px'])}"
        )
        out += [f"  {r}" for r in s["reasons"]]
    if not report["sheets"]:
        out.append("No island lies on a sheet.")
    out += report["notes"]
    return [*out, f"{report['objects']} objects, {len(report['files'])} files written in {report['seconds']:.1f} s"]


def _px(value: float | None) -> str:
    return "none" if value is None else f"{value:.2f} px"
