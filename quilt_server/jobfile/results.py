"""What a job puts out, in a folder: written whole, known by what it was made from, and told in lines. Nothing here needs the database."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any

from quilt_core.errors import FileError, QuiltError

Report = dict[str, Any]
REPORT = "run.json"
PROJECT = "project.quilt.zip"  # of a batch in the browser: an asset as it was left, to open


def sha_of(path: Path) -> str | None:
    """The SHA-256 of a file, None where it is gone."""
    found = hashlib.sha256()
    try:
        with path.open("rb") as f:
            while part := f.read(1 << 20):
                found.update(part)
    except OSError:
        return None
    return found.hexdigest()


def key_of(job: bytes) -> str:
    """What results belong to, besides the files that were read: the job and the program."""
    return hashlib.sha256(job + _program()).hexdigest()


@cache
def _program() -> bytes:
    found = hashlib.sha256()
    top = Path(__file__).resolve().parents[2]
    for package in ("quilt_core", "quilt_server", "quilt_cli"):
        for path in sorted((top / package).rglob("*.py")):
            found.update(path.relative_to(top).as_posix().encode() + b"\0" + path.read_bytes())
    return found.digest()


def report_of(read: Callable[[str], bytes | None]) -> Report:
    """The report of an earlier run, from a folder that can be read; empty where there is none."""
    try:
        found = json.loads(read(REPORT) or b"{}")
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def files_of(report: Report) -> set[str]:
    """The paths that a report says were put out."""
    found = report.get("files")
    return set(found) if isinstance(found, dict) else set()


def write(out: Path, files: dict[str, bytes], report: Report) -> None:
    """Put what was made into a folder: each file whole, the report last, and away with what an earlier run put there and this one did not.

    Raises
    ------
    FileError : it cannot be written
    """
    with _beside(out, out) as new:
        old = files_of(report_of(lambda name: (out / name).read_bytes()))
        (out / REPORT).unlink(missing_ok=True)
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


def put_whole(out: Path, files: dict[str, bytes], report: Report) -> None:
    """The same as a whole: the folder is there with all of it, or as it was before. For results that only jobs write.

    Raises
    ------
    FileError : it cannot be written
    """
    with _beside(out, out.parent) as new:
        write(new / "whole", files, report)
        if out.exists():
            os.replace(out, new / "old")
        os.replace(new / "whole", out)


@contextmanager
def _beside(out: Path, inside: Path) -> Iterator[Path]:
    """A folder inside another one, in which results are made ready; gone afterwards.

    Raises
    ------
    FileError : the disk takes nothing, told of `out`
    """
    try:
        inside.mkdir(parents=True, exist_ok=True)
        new = Path(tempfile.mkdtemp(prefix=".new-", dir=inside))
        try:
            yield new
        finally:
            shutil.rmtree(new, ignore_errors=True)
    except OSError as e:
        raise FileError(
            str(e.filename or out), e.strerror or "it cannot be written", "", "Make room, or choose another folder for --out."
        ) from e


def lines(report: Report) -> list[str]:
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
    out += [*bare_of(report), *report["notes"]]
    return [*out, f"{report['objects']} objects, {len(report['files'])} files written in {report['seconds']:.1f} s"]


def _px(value: float | None) -> str:
    return "none" if value is None else f"{value:.2f} px"


def bare_of(report: Report) -> list[str]:
    """What has no UVs and so lies on no sheet, in words; nothing where there is none."""
    names = report.get("bare", [])
    if not names:
        return []
    whose = (
        f"{names[0]} has" if len(names) == 1 else f"{len(names)} objects ({', '.join(names[:3])}{', ...' if len(names) > 3 else ''}) have"
    )
    return [f"{whose} faces without UVs, which lie on no sheet: a step that unwraps makes them"]


def short(report: Report) -> dict[str, Any]:
    """What a batch tells of an asset: fit for baking only where all of it lies on a sheet."""
    sheets = list(report["sheets"].values())
    bare = bare_of(report)
    why = [*(r for s in sheets for r in [s["verdict"], *s["reasons"]] if not s["ok"]), *bare]
    if not sheets and not bare:
        why = ["nothing of it lies on a sheet"]
    return {
        "ok": report["ok"] and not why, "why": "; ".join(dict.fromkeys(why)),
        "coverage": report["coverage"], "density_px_per_m": report["density_px_per_m"] or max((s["density"] or 0.0 for s in sheets), default=None),
        "verdict": "; ".join(dict.fromkeys(s["verdict"] for s in sheets)), "islands": report["islands"], "notes": report["notes"],
    }  # fmt: skip


def swept(out: Path) -> None:
    """Away with what lost workers left half written."""
    for folder in [out, *(p for p in out.rglob("*") if p.is_dir() and not p.is_symlink())] if out.is_dir() else ():
        for left in folder.glob(".new-*"):
            shutil.rmtree(left, ignore_errors=True)
