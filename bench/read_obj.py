"""Reading OBJ: seconds here and in trimesh, in the same run. `python -m bench.read_obj`."""

from __future__ import annotations

import io
import time
from collections.abc import Callable

import trimesh

from quilt_core import formats
from tests.real_files import path


def best(work: Callable[[], object], times: int = 3) -> float:
    """Least seconds of several runs."""
    out = []
    for _ in range(times):
        begin = time.perf_counter()
        work()
        out.append(time.perf_counter() - begin)
    return min(out)


def main() -> None:
    """Print a table."""
    for file in ("a1/meshes/trunk.obj", "samurai_monastry.obj"):
        data = path("pybullet", file).read_bytes()
        ours = best(lambda data=data: formats.read(data, "a.obj"))  # type: ignore[misc]
        theirs = best(lambda data=data: trimesh.load(io.BytesIO(data), "obj", process=False))  # type: ignore[misc]
        print(f"{file:24} {len(data) / 1e6:6.1f} MB  ours {ours:.3f} s  trimesh {theirs:.3f} s  ratio {theirs / ours:.2f}")


if __name__ == "__main__":
    main()
