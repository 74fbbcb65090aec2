"""A picture of models before and after their paint was carried over, drawn by three.js, which shares no code with the program.

    python -m bench.side_by_side BEFORE AFTER OUT.png

BEFORE and AFTER are folders with GLB files of the same names, up to eight; every cell of the picture has the old one on the left, the new one on the right.
Prints how far each pair is apart: the mean difference of 255 over the pixels that either covers.
"""

from __future__ import annotations

import base64
import io
import shutil
import sys
from pathlib import Path

import numpy as np
from PIL import Image
from playwright.sync_api import Page, sync_playwright

from tests.three import with_three

CELL = 320
# A light from every side and one from above, the model fitted into the view from its front corner.
DRAW = """
async ([body, px]) => {
  const t = await import('three'), m = await import('three/addons/loaders/GLTFLoader.js'), e = await import('three/addons/environments/RoomEnvironment.js')
  const data = Uint8Array.from(atob(body), (c) => c.charCodeAt(0))
  const root = (await new m.GLTFLoader().parseAsync(data.buffer, '')).scene
  const renderer = new t.WebGLRenderer({ antialias: true, alpha: true, preserveDrawingBuffer: true })
  renderer.setSize(px, px)
  renderer.toneMapping = t.ACESFilmicToneMapping
  const scene = new t.Scene()
  scene.environment = new t.PMREMGenerator(renderer).fromScene(new e.RoomEnvironment(), 0.04).texture
  scene.add(root)
  const box = new t.Box3().setFromObject(root), middle = box.getCenter(new t.Vector3()), size = box.getSize(new t.Vector3()).length() / 2
  const camera = new t.PerspectiveCamera(30, 1, size / 50, size * 20)
  camera.position.copy(middle).add(new t.Vector3(0.55, 0.75, 0.9).normalize().multiplyScalar(size * 3.6))
  camera.lookAt(middle)
  renderer.render(scene, camera)
  const url = renderer.domElement.toDataURL('image/png')
  renderer.dispose(); renderer.forceContextLoss()
  return url
}
"""


def drawn(page: Page, file: Path) -> Image.Image:
    """A model on nothing."""
    url = page.evaluate(DRAW, [base64.b64encode(file.read_bytes()).decode(), CELL])
    return Image.open(io.BytesIO(base64.b64decode(url.split(",", 1)[1]))).convert("RGBA")


def main(before: Path, after: Path, out: Path) -> None:
    """Draw all pairs."""
    names = sorted(p.name for p in before.glob("*.glb"))[:8]
    sheet = Image.new("RGB", (CELL * 4, (CELL // 2 + 40) * 4 // 2), "#f5efe1")
    with sync_playwright() as play:
        browser = play.chromium.launch(
            executable_path=shutil.which("chromium"), args=["--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader"]
        )
        page = with_three(browser.new_page())
        for n, name in enumerate(names):
            pair = [drawn(page, folder / name) for folder in (before, after)]
            a, b = (np.asarray(p, float) for p in pair)
            seen = (a[:, :, 3] > 0) | (b[:, :, 3] > 0)
            print(f"{name:40} {np.abs(a - b)[seen][:, :3].mean():6.2f} of 255")
            for k, picture in enumerate(pair):
                small = picture.resize((CELL // 2 + 20, CELL // 2 + 20), Image.Resampling.LANCZOS)
                sheet.paste(small, (n % 4 * CELL + k * CELL // 2 - 10, n // 4 * (CELL // 2 + 40) + 10), small)
        browser.close()
    sheet.save(out, optimize=True)


if __name__ == "__main__":
    main(*(Path(x) for x in sys.argv[1:4]))
