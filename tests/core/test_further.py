"""A channel above one that a mesh does not have: every format reads it back where it was written."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from quilt_core import formats
from quilt_core.formats.export import add, checked
from quilt_core.formats.model import Model
from quilt_core.model.scene import UvChannel


def bare_box() -> bytes:
    box = trimesh.creation.box((1, 2, 3))
    lines = ["o box", *("v {:.6f} {:.6f} {:.6f}".format(*p) for p in box.vertices)]
    return "\n".join([*lines, *("f " + " ".join(str(k + 1) for k in f) for f in box.faces)]).encode()


@pytest.mark.parametrize("format", ["glb", "dae", "usda"])
@pytest.mark.parametrize("channel", [0, 1, 2])
def test_a_channel_of_a_mesh_without_uvs_is_read_back_by_its_number(format: str, channel: int) -> None:
    model = Model()
    add(model, formats.read(bare_box(), "box.obj"), {})
    name = f"box.{format}"
    body = checked(model, format, "box")[1][name][0]
    scene = formats.read(body, name)
    assert not scene.meshes[0].channels
    mesh = scene.meshes[0]
    p = mesh.positions[mesh.triangles].reshape(-1, 3)
    made = UvChannel(
        0.1 * p[:, :2] + 0.3 * np.repeat(np.arange(len(mesh.triangles)), 3)[:, None], np.arange(len(p)).reshape(-1, 3).astype(np.int32)
    )
    written = formats.revise(scene, {0: made}, channel)
    again = formats.read(written[""], name, 1.0, {k: v for k, v in written.items() if k}).meshes[0]
    assert sorted(again.channels) == list(range(channel + 1))
    uv, at = again.channels[channel].uvs[again.channels[channel].triangles], again.positions[again.triangles]
    for k, (corners, place) in enumerate(zip(uv, at, strict=True)):
        assert corners == pytest.approx(0.1 * place[:, :2] + 0.3 * k, abs=1e-5)


@pytest.mark.parametrize("format", ["glb", "dae", "usda"])
def test_what_is_missing_below_gets_the_uvs_themselves(format: str) -> None:
    """Before rows are written over, rows of one value are told apart by numbers that nobody is to see."""
    model = Model()
    add(model, formats.read(bare_box(), "box.obj"), {})
    name = f"box.{format}"
    scene = formats.read(checked(model, format, "box")[1][name][0], name)
    mesh = scene.meshes[0]
    p = mesh.positions[mesh.triangles].reshape(-1, 3)
    made = UvChannel(0.1 * p[:, :2], np.arange(len(p)).reshape(-1, 3).astype(np.int32))
    again, _ = formats.with_rows(scene, {0: made}, 1, 1.0, {})
    laid = 0.5 + again.meshes[0].channels[1].uvs
    written = formats.write(again, {0: laid}, 1)
    back = formats.read(written[""], name, 1.0, {k: v for k, v in written.items() if k}).meshes[0]
    at = back.positions[back.triangles][..., :2]
    for channel, wanted in ((0, 0.1 * at), (1, 0.5 + 0.1 * at)):
        assert back.channels[channel].uvs[back.channels[channel].triangles] == pytest.approx(wanted, abs=1e-5)
