"""What is kept of a file opens as what was read; damaged stores are told, and number formats stay."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import shapely

from demo.quay import small_set
from quilt_core import formats
from quilt_core.arrays import file_of_arrays, open_arrays, pack_arrays, unpack_arrays
from quilt_core.errors import QuiltError
from quilt_core.formats import normals
from quilt_core.measure.stored import island_arrays, islands_of, normals_of_scene, scene_arrays, scene_of
from quilt_core.uv.analysis import analyse


@pytest.mark.parametrize("name", [n for n in small_set() if formats.is_mesh(n)])
def test_a_kept_file_is_the_file(name: str, tmp_path: Path) -> None:
    """Every array of scene and islands, bit for bit; regions by their coordinates."""
    files = small_set()
    scene = formats.read(files[name], name, 1.0, {k: v for k, v in files.items() if k != name})
    pieces = analyse(scene, 0)
    own = [normals(scene, n) for n in range(len(scene.meshes))]
    for path, (meta, arrays) in (("s", scene_arrays(scene, own)), ("i", island_arrays(pieces, 0))):
        (tmp_path / path).write_bytes(file_of_arrays(arrays, meta))
    again = scene_of(*open_arrays(tmp_path / "s"))
    assert [o.path for o in again.objects] == [o.path for o in scene.objects] and again.materials == scene.materials
    for a, b in zip(scene.meshes, again.meshes, strict=True):
        assert np.array_equal(a.positions, b.positions) and np.array_equal(a.triangles, b.triangles) and set(a.channels) == set(b.channels)
        assert all(np.array_equal(a.channels[c].uvs, b.channels[c].uvs) for c in a.channels)
    for x, y in zip(own, normals_of_scene(*open_arrays(tmp_path / "s")), strict=True):
        assert (x is None) == (y is None) and (x is None or np.abs(x - y).max() < 1e-6)
    kept = islands_of(*open_arrays(tmp_path / "i"))
    for a, b in zip(pieces, kept.pieces(again), strict=True):
        assert (a is None) == (b is None)
        if a is not None and b is not None:
            assert shapely.equals_exact(a.outlines.regions, b.outlines.regions).all() and np.array_equal(
                a.outlines.self_overlap, b.outlines.self_overlap
            )
            assert np.array_equal(a.islands.of_triangle, b.islands.of_triangle) and np.array_equal(a.islands.of_row, b.islands.of_row)
            assert all(np.array_equal(x, y) for x, y in zip(a.object_areas, b.object_areas, strict=True))


def test_arrays_keep_their_kind_and_cannot_be_written_to(tmp_path: Path) -> None:
    arrays = {
        "a": np.arange(6, dtype=np.int32).reshape(2, 3),
        "b": np.zeros((0, 4)),
        "c": np.array([True, False]),
        "d": np.array([np.nan, 1.5]),
    }
    (tmp_path / "x").write_bytes(file_of_arrays(arrays, {"more": [1, "two"]}))
    meta, found = open_arrays(tmp_path / "x")
    assert meta == {"more": [1, "two"]}
    for k, v in arrays.items():
        for other in (found[k], unpack_arrays(pack_arrays(arrays))[k]):
            assert other.dtype == v.dtype and np.array_equal(other, v, equal_nan=v.dtype.kind == "f") and not other.flags.writeable
    with pytest.raises(TypeError):
        pack_arrays({"o": np.array(["text"])})


@pytest.mark.parametrize("cut", [0, 8, 11, 40, 100])
def test_a_damaged_store_is_told(cut: int, tmp_path: Path) -> None:
    whole = file_of_arrays({"a": np.arange(100.0)}, None)
    (tmp_path / "x").write_bytes(whole[:cut] + (b"?" * 30 if cut == 40 else b""))
    with pytest.raises((QuiltError, ValueError)):
        open_arrays(tmp_path / "x")
