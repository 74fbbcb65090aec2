"""What is written, opened by the loaders of three.js in Chromium, and by Khronos' validator."""

from __future__ import annotations

import base64
import json
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page, sync_playwright

from demo.textures import png
from quilt_core import formats
from quilt_core.formats import rewire
from quilt_core.formats.export import add, export
from quilt_core.formats.model import Model
from quilt_core.formats.wiring import plan
from tests.core.test_usd import SHED
from tests.kit.chromium import launched
from tests.real_files import path
from tests.three import WEB, with_three

PAINT = {"textures/paint.png": png("wheel")}
# Triangles, greatest and least UV, number of textures and of meshes.
COUNT = """
(root) => {
  const out = { triangles: 0, low: [9, 9], high: [-9, -9], maps: 0, meshes: 0 }
  root.traverse((o) => {
    if (!o.isMesh) return
    out.meshes += 1
    const g = o.geometry, uv = g.attributes.uv
    out.triangles += (g.index ? g.index.count : g.attributes.position.count) / 3
    for (let i = 0; uv && i < uv.count; i++) {
      out.low = [Math.min(out.low[0], uv.getX(i)), Math.min(out.low[1], uv.getY(i))]
      out.high = [Math.max(out.high[0], uv.getX(i)), Math.max(out.high[1], uv.getY(i))]
    }
    for (const m of [o.material].flat()) out.maps += m.map ? 1 : 0
  })
  return out
}
"""
LOAD = {
    "glb": "const m = await import('three/addons/loaders/GLTFLoader.js'); return (await new m.GLTFLoader().parseAsync(data.buffer, '')).scene",
    "obj": "const m = await import('three/addons/loaders/OBJLoader.js'); return new m.OBJLoader().parse(new TextDecoder().decode(data))",
    "ply": """const m = await import('three/addons/loaders/PLYLoader.js'); const t = await import('three')
      const g = new m.PLYLoader().parse(data.buffer); return new t.Mesh(g, new t.MeshBasicMaterial())""",
    "usda": "const m = await import('three/addons/loaders/USDLoader.js'); return new m.USDLoader().parse(new TextDecoder().decode(data))",
}


@pytest.fixture(scope="module")
def page() -> Iterator[Page]:
    with sync_playwright() as play:
        browser = launched(play)
        yield with_three(browser.new_page())
        browser.close()


def opened(page: Page, kind: str, body: bytes) -> dict:
    script = f"""async (text) => {{
      const data = Uint8Array.from(atob(text), (c) => c.charCodeAt(0))
      const root = await (async () => {{ {LOAD[kind]} }})()
      return ({COUNT})(root)
    }}"""
    return page.evaluate(script, base64.b64encode(body).decode())


@pytest.mark.reference("Converted files open elsewhere", "three.js' loaders in Chromium")
@pytest.mark.parametrize("kind", ["glb", "obj", "ply", "usda"])
def test_three_opens_what_was_converted(page: Page, kind: str) -> None:
    scene = formats.read(SHED.encode(), "shed.usda", 1.0, PAINT)
    model = Model()
    add(model, scene, PAINT)
    found = opened(page, kind, export(model, kind, "yard")[f"yard.{kind}"])
    assert found["triangles"] == 4
    assert found["meshes"] == {"glb": 3, "obj": 2, "ply": 1, "usda": 2}[kind], "a GLB has a primitive for each material"
    assert found["low"] == pytest.approx([0, 0], abs=1e-6) and found["high"] == pytest.approx([1, 1], abs=1e-6)
    if kind == "glb":
        assert found["maps"] == 1


@pytest.mark.reference("A real model with new materials opens elsewhere", "three.js' loaders in Chromium")
def test_three_opens_a_real_model_that_was_rewired(page: Page) -> None:
    source = path("webxr", "oculus-touch-v2/left.glb").read_bytes()
    scene = formats.read(source, "left.glb")
    spots = {
        m: (np.zeros(len(x.triangles), np.int64), np.where(np.arange(len(x.triangles)) % 2, 1001, 1002)) for m, x in enumerate(scene.meshes)
    }
    wiring = plan(scene, spots, {(0, t): {"base colour": f"textures/a.{t}.png"} for t in (1001, 1002)}, {0: "Sheet"})
    wiring.pictures = {f"textures/a.{t}.png": png(n) for t, n in ((1001, "wheel"), (1002, "sack"))}
    body = rewire(scene, {"": source}, {}, wiring).files[""]
    before, after = opened(page, "glb", source), opened(page, "glb", body)
    assert after["triangles"] == before["triangles"] and after["maps"] == 2 * before["maps"] and after["high"] == before["high"]


@pytest.mark.reference("Materials of glTF and accessors that are written", "Khronos' glTF validator")
@pytest.mark.parametrize("name", ["yard", "left", "bare"])
def test_khronos_validator_has_nothing_against_it(name: str, tmp_path: Path) -> None:
    """Reference: Khronos' gltf-validator (npm): no errors and no warnings."""
    model = Model()
    if name == "yard":
        add(model, formats.read(SHED.encode(), "shed.usda", 1.0, PAINT), PAINT)
    elif name == "bare":
        # A material with a picture on a mesh that has no UVs.
        beside = {"a.mtl": b"newmtl wood\nKd 0.5 0.5 0.5\nmap_Kd wood.png\n", "wood.png": png("wheel")}
        body = b"mtllib a.mtl\no p\nusemtl wood\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"
        add(model, formats.read(body, "bare.obj", 1.0, beside), beside)
    else:
        add(model, formats.read(path("webxr", "oculus-touch-v2/left.glb").read_bytes(), "left.glb"), {})
    file = tmp_path / "a.glb"
    file.write_bytes(export(model, "glb", name)[f"{name}.glb"])
    script = """
const validator = require('gltf-validator'), fs = require('fs')
validator.validateBytes(new Uint8Array(fs.readFileSync(process.argv[1]))).then((r) => console.log(JSON.stringify(r.issues.messages.filter((m) => m.severity < 2))))
"""
    node = shutil.which("node")
    assert node
    done = subprocess.run([node, "-e", script, str(file)], cwd=WEB, capture_output=True, text=True, check=True)
    assert json.loads(done.stdout) == []


COLOURS = {
    "mtl": """const m = await import('three/addons/loaders/MTLLoader.js'); const c = new m.MTLLoader().parse(text, ''); c.preload()
      return c.materials.plum.color.toArray()""",
    "dae": """const m = await import('three/addons/loaders/ColladaLoader.js'); let out = null
      new m.ColladaLoader().parse(text, '').scene.traverse((o) => { if (o.isMesh) out = [o.material].flat()[0].color.toArray() })
      return out""",
    "glb": """const m = await import('three/addons/loaders/GLTFLoader.js'); let out = null
      const data = Uint8Array.from(atob(text), (c) => c.charCodeAt(0))
      ;(await new m.GLTFLoader().parseAsync(data.buffer, '')).scene.traverse((o) => { if (o.isMesh) out = o.material.color.toArray() })
      return out""",
}


@pytest.mark.reference("Plain colours of MTL and COLLADA are stored in sRGB", "three.js' loaders in Chromium")
def test_a_plain_colour_is_the_same_in_every_format(page: Page) -> None:
    """Kd was taken as linear: one material for OBJ came out brighter, and conversions shifted."""
    library = b"newmtl plum\nKd 0.6 0.3 0.1\n"
    scene = formats.read(b"mtllib a.mtl\nusemtl plum\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "a.obj", 1.0, {"a.mtl": library})
    model = Model()
    add(model, scene, {})

    def seen(kind: str, text: str) -> list[float]:
        return page.evaluate(f"async (text) => {{ {COLOURS[kind]} }}", text)

    wanted = seen("mtl", library.decode())
    assert scene.materials[0].colour == pytest.approx(wanted, abs=1e-6)
    assert seen("mtl", export(model, "obj", "b")["b.mtl"].decode()) == pytest.approx(wanted, abs=1e-5)
    assert seen("dae", export(model, "dae", "b")["b.dae"].decode()) == pytest.approx(wanted, abs=1e-5)
    assert seen("glb", base64.b64encode(export(model, "glb", "b")["b.glb"]).decode()) == pytest.approx(wanted, abs=1e-5)
