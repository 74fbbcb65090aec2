"""The greatest memory that packing a file takes, each in a process of its own.

    python -m bench.memory [FILE...]

Without files: all mesh files of the tests' real packages. Prints megabytes at the peak, of which 190 are Python with its libraries, the seconds, and the exit code.
The bound that is stated in docs/packing.md is checked here, not in the tests.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from tests.real_files import CACHE

ENDINGS = (".glb", ".gltf", ".obj", ".ply", ".dae", ".usda", ".usdc", ".usdz")


def peak(file: Path, seconds: float = 2.0) -> tuple[float, float, int]:
    """Megabytes, seconds and exit code of packing a file."""
    with tempfile.TemporaryDirectory() as out:
        command = [sys.executable, "-m", "quilt_cli.main", "pack", str(file), "--map", "1024", "--seconds", str(seconds), "--out", out]
        begin = time.monotonic()
        child = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        _, status, used = os.wait4(child.pid, 0)
        return used.ru_maxrss / 1024, time.monotonic() - begin, os.waitstatus_to_exitcode(status)


def main(files: list[Path]) -> None:
    """Print a table, the largest first at the end."""
    rows = []
    for file in files:
        rows.append((*peak(file), file))
        print(f"{rows[-1][0]:8.0f} MB {rows[-1][1]:7.1f} s  exit {rows[-1][2]}  {file}", flush=True)
    if rows:
        print(f"the most: {max(r[0] for r in rows):.0f} MB, {max(rows)[3]}")


if __name__ == "__main__":
    given = [Path(x) for x in sys.argv[1:]]
    main(given or sorted(p for p in CACHE.rglob("*") if p.suffix.lower() in ENDINGS and p.stat().st_size > 50_000))
