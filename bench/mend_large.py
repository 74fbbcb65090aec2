"""Large meshes, islands laid flat again and a whole kit: `python -m bench.mend_large [sizes] [again] [kit]` (all without a name).

Sizes: a real model subdivided by Loop's rule (trimesh), unwrapped anew; seconds and memory beside one least squares conformal map of the same triangles by libigl,
cut along our seams: a ratio that holds on any machine. Again: 5,000 triangles cut across and laid flat. Kit: 20 real objects of about 100,000 triangles, half with
scrambled or no UVs, through `quilt ready`.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import igl
import numpy as np
import trimesh

from bench.mend import CONTROLLERS, stretch
from quilt_core import formats
from quilt_core.model.scene import Mesh, MeshObject, Scene, UvChannel
from quilt_core.unwrap.hands import relaxed
from quilt_core.unwrap.meshes import Options, unwrap
from quilt_core.unwrap.seams import cut_along
from quilt_core.unwrap.skin import laying_of, revised, skin_of
from tests.real_files import path


def divided(times: int) -> Mesh:
    """A toy duck of 4,212 triangles, made four times as many as often as is said."""
    scene = formats.read(path("gradio", "Duck.glb").read_bytes(), "Duck.glb")
    solid = trimesh.Trimesh(scene.meshes[0].positions, scene.meshes[0].triangles, process=True)
    solid.merge_vertices(merge_tex=True, merge_norm=True)
    points, faces = np.asarray(solid.vertices), np.asarray(solid.faces)
    if times:
        points, faces = trimesh.remesh.subdivide_loop(points, faces, times)
    return Mesh("duck", np.asarray(points), np.asarray(faces, np.int32), np.full(len(faces), -1, np.int32), {})


def conformal_seconds(mesh: Mesh, made: UvChannel) -> float:
    """Seconds of libigl's conformal map of the same islands, all in one call."""
    rows = made.triangles.astype(np.int64)
    points = np.empty((len(made.uvs), 3))
    points[rows] = mesh.positions[mesh.triangles]
    of = trimesh.graph.connected_component_labels(rows[:, [0, 1, 1, 2]].reshape(-1, 2), node_count=len(points))
    low, high = (np.array([np.flatnonzero(of == k)[end] for k in range(of.max() + 1)]) for end in (0, -1))
    pins = np.concatenate([low, high])
    begin = time.perf_counter()
    igl.lscm(points, rows, pins, made.uvs[pins])
    return time.perf_counter() - begin


def sizes() -> None:
    """Print seconds, memory and figures for meshes of four sizes."""
    for times in range(4):
        mesh = divided(times)
        began: list[float] = []
        begin = time.perf_counter()

        def tell(text: str, began: list[float] = began, begin: float = begin) -> None:
            if text == "Drawing the seams of the copy":
                began.append(time.perf_counter() - begin)

        u = unwrap(mesh, Options(), tell=tell)
        seconds = time.perf_counter() - begin
        scene = Scene("a", "obj", [replace(mesh, channels={0: u.channel})], [MeshObject("duck", "", 0, np.eye(4))], [])
        ratio, area = stretch(scene, 0, u.channel)
        theirs = conformal_seconds(mesh, u.channel)
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(
            f"{len(mesh.triangles):7} triangles: {seconds:6.1f} s ({seconds / theirs:.0f} conformal maps of libigl), {u.charts} charts, under 1.1 "
            f"{area[ratio < 1.1].sum() / area.sum():.3f}, under 1.5 {area[ratio < 1.5].sum() / area.sum():.4f}, unsound {u.unsound}, {memory:.0f} MB",
            flush=True,
        )  # fmt: skip


def again() -> None:
    """Print seconds of laying an island flat again after a cut."""
    n = 50
    x, y = (k.reshape(-1) for k in np.meshgrid(np.arange(n + 1.0), np.arange(n + 1.0)))
    at = np.arange((n + 1) ** 2).reshape(n + 1, n + 1)
    a, b, c, d = (k.reshape(-1) for k in (at[:-1, :-1], at[:-1, 1:], at[1:, 1:], at[1:, :-1]))
    faces = np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])]).astype(np.int32)
    mesh = Mesh(
        "sheet", np.column_stack([x, y, 6 * np.sin(np.pi * x / n) * np.sin(np.pi * y / n)]), faces, np.full(len(faces), -1, np.int32), {}
    )
    mesh.channels[0] = UvChannel(np.column_stack([x, y]) / n, faces)
    skin = skin_of(mesh)
    laying = laying_of(skin, mesh.channels[0], np.zeros(len(faces), np.int32))
    s = skin.surface
    row = np.flatnonzero(np.isclose(s.points[s.start][:, 1], 25) & np.isclose(s.points[s.end][:, 1], 25) & (s.points[s.start][:, 0] < 20))
    cut, touched = cut_along(skin, laying, row)
    r = revised(skin, cut, touched)
    cut = laying_of(skin, r.channel, r.island, r.root)
    times = []
    for _ in range(5):
        begin = time.perf_counter()
        relaxed(skin, cut, 0)
        times.append(time.perf_counter() - begin)
    print(f"{len(faces)} triangles laid flat again after a cut: {min(times):.2f} s")


def kit() -> None:
    """Print seconds of making a kit ready, and its verdict."""
    rng = np.random.default_rng(0)
    names = [
        n for n in CONTROLLERS if n not in ("generic-trigger/none", "generic-button/none", "generic-touchpad/none", "google-daydream/none")
    ]
    names += ["htc-vive/none", "hp-mixed-reality/right", "pico-4/right", "oculus-touch-v2/right"]
    with tempfile.TemporaryDirectory() as folder:
        files, total = [], 0
        for k, name in enumerate(names[:20]):
            try:
                body = path("webxr", f"{name}.glb").read_bytes()
            except OSError:
                continue
            scene = formats.read(body, f"{k}.glb")
            total += sum(len(scene.meshes[o.mesh].triangles) for o in scene.objects)
            if k % 2:
                wrong = {
                    n: UvChannel(rng.permutation(m.channels[0].uvs), m.channels[0].triangles)
                    for n, m in enumerate(scene.meshes)
                    if 0 in m.channels
                }
                body = formats.revise(scene, wrong, 0)[""]
            file = Path(folder) / f"{k:02}-{name.replace('/', '-')}.glb"
            file.write_bytes(body)
            files.append(str(file))
        begin = time.perf_counter()
        done = subprocess.run(
            [sys.executable, "-m", "quilt_cli", "ready", *files, "--out", f"{folder}/out"], capture_output=True, text=True, check=False
        )
        print(
            f"{len(files)} files, {total} triangles, every second one scrambled: {time.perf_counter() - begin:.0f} s, exit {done.returncode}"
        )
        print("\n".join((done.stdout + done.stderr).strip().splitlines()[-6:]))


def main() -> None:
    """What was asked for, or everything."""
    asked = sys.argv[1:] or ["sizes", "again", "kit"]
    for name in asked:
        {"sizes": sizes, "again": again, "kit": kit}[name]()


if __name__ == "__main__":
    main()
