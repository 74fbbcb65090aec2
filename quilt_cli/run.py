"""`quilt run JOB`: a job file done without a browser; what is there already and fits what it was made from is not made again."""

from __future__ import annotations

import argparse
import json
import sys
import time
from pathlib import Path
from typing import Any

from quilt_core.errors import FileError


def add(commands: Any) -> None:
    """The words of the command."""
    c = commands.add_parser("run")
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
    """Do it; returns the exit code."""
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
        from quilt_server.jobfile.engine import Engine, reported
        from quilt_server.jobfile.places import Here, unchanged
        from quilt_server.jobfile.results import key_of, lines, write
        from quilt_server.jobfile.taking import found_files

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
        old = None if args.force or args.save else unchanged(Here(out), Here(folder), key, meshes)
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
