"""Made-up old textures for the demo: plain patterns of different sizes, drawn here."""

from __future__ import annotations

import io

from PIL import Image, ImageDraw

# Material of the OBJ files (the first word of an object's name): ground colour, line colour, pattern, size in px.
CLOTHS = {
    "wheel": ("#6d5138", "#503a27", "boards", 1024),
    "sluice": ("#4f6247", "#3a4a34", "boards", 512),
    "winch": ("#5c6068", "#44474e", "rivets", 256),
    "punt": ("#8a6b45", "#6b5133", "boards", 512),
    "crane": ("#3c4a5e", "#2b3646", "rivets", 128),
    "sack": ("#b59a6a", "#937c52", "weave", 256),
    "plank": ("#94805f", "#75654a", "boards", 512),
}


def png(cloth: str) -> bytes:
    """The picture of a cloth."""
    ground, line, pattern, size = CLOTHS[cloth]
    image = Image.new("RGB", (size, size), ground)
    pen = ImageDraw.Draw(image)
    step = size // 8
    if pattern == "boards":
        for k in range(0, size, step):
            pen.line([(0, k), (size, k)], fill=line, width=max(1, size // 128))
            pen.line([(k * 3 % size, k), (k * 3 % size, k + step)], fill=line, width=max(1, size // 128))
    elif pattern == "rivets":
        for x in range(step // 2, size, step):
            for y in range(step // 2, size, step):
                pen.ellipse([x - step // 8, y - step // 8, x + step // 8, y + step // 8], fill=line)
    else:
        for k in range(0, 2 * size, step // 2):
            pen.line([(k, 0), (k - size, size)], fill=line, width=max(1, size // 128))
            pen.line([(k - size, 0), (k, size)], fill=line, width=max(1, size // 128))
    out = io.BytesIO()
    image.save(out, "PNG", optimize=True)
    return out.getvalue()


def library(cloths: list[str]) -> bytes:
    """An MTL that gives each cloth its picture; other materials have a plain colour."""
    lines = ["# Made by the demo generator of Untold Quilt"]
    for cloth in cloths:
        lines += [f"newmtl {cloth}", "Kd 0.8 0.8 0.8"]
        if cloth in CLOTHS:
            lines.append(f"map_Kd textures/{cloth}.png")
    return ("\n".join(lines) + "\n").encode()
