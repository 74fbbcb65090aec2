"""Three plates with materials that differ in one property: the same in glTF, USD and OBJ, written here by hand."""

from __future__ import annotations

import io
import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pygltflib
from PIL import Image

from .viewer import shown

Array = np.ndarray
SIZE = 64


def waves(seed: int, channels: int = 3, size: int = SIZE) -> Array:
    """A smooth picture (size, size, channels) of bytes that repeats."""
    random = np.random.default_rng(seed)
    x = (np.arange(size) + 0.5) / size * 2 * math.pi
    out = np.zeros((size, size, channels))
    for c in range(channels):
        for kx, ky in ((1, 0), (0, 1), (1, 1), (2, 1)):
            out[:, :, c] += random.uniform(-1, 1) * np.sin(kx * x[None, :] + ky * x[:, None] + random.uniform(0, 6))
        out[:, :, c] = (out[:, :, c] - out[:, :, c].min()) / np.ptp(out[:, :, c])
    return np.round(20 + 215 * out).astype(np.uint8)


def dents(seed: int, size: int = SIZE) -> Array:
    """A normal map (size, size, 3) of bytes."""
    slope = (waves(seed, 2, size).astype(float) - 128) / 128 * 0.6
    n = np.dstack([slope, np.ones((size, size))])
    n /= np.linalg.norm(n, axis=2, keepdims=True)
    return np.round((n * 0.5 + 0.5) * 255).astype(np.uint8)


def png(values: Array) -> bytes:
    out = io.BytesIO()
    Image.fromarray(values if values.shape[-1] in (3, 4) and values.ndim == 3 else values.squeeze()).save(out, "PNG")
    return out.getvalue()


@dataclass
class Map:
    """A picture of a material: its bytes, and how it is read. `moved`: offset, rotation (radians), scale as KHR_texture_transform has them."""

    values: Array
    channel: int = 0
    wrap: tuple[str, str] = ("repeat", "repeat")
    moved: tuple[tuple[float, float], float, tuple[float, float]] | None = None


@dataclass
class Paint:
    """A material; the words are those of glTF."""

    name: str
    maps: dict[str, Map] = field(default_factory=dict)
    colour: tuple[float, float, float] = (1.0, 1.0, 1.0)
    opacity: float = 1.0
    metal: float = 0.0
    roughness: float = 1.0
    emission: tuple[float, float, float] = (0.0, 0.0, 0.0)
    normal_scale: float = 1.0
    strength: float = 1.0
    mode: str = "OPAQUE"
    cutoff: float = 0.5
    double_sided: bool = False
    unlit: bool = False
    shine: float = 1.0


@dataclass
class Plate:
    """A mesh: places (V, 3), UVs (V, 2) with v upward, triangles, the material's number, tangents (V, 4) or None, colours (V, 4) or None."""

    name: str
    places: Array
    uvs: Array
    triangles: Array
    paint: int
    tangents: Array | None = None
    colours: Array | None = None


def plate(name: str, x: float, paint: int, uv_low: float, uv_high: float, tangents: bool = False, colours: bool = False) -> Plate:
    """A square in two halves: the right one has its UVs mirrored."""
    places, uvs, triangles, turned = [], [], [], []
    for half in (0, 1):
        base = len(places)
        for j in range(3):
            for i in range(3):
                u, v = i / 2, j / 2
                places.append((x + half * 0.5 + u * 0.5, v, 0.0))
                s = uv_low + (uv_high - uv_low) * (u if half == 0 else 1 - u)
                uvs.append((s, uv_low + (uv_high - uv_low) * v))
                # Along growing u, and the sign that makes the bitangent point to growing v.
                turned.append((1.0 if half == 0 else -1.0, 0.0, 0.0, 1.0 if half == 0 else -1.0))
        for j in range(2):
            for i in range(2):
                a = base + j * 3 + i
                triangles += [(a, a + 1, a + 4), (a, a + 4, a + 3)]
    p = np.array(places)
    shades = np.column_stack([0.2 + 0.6 * p[:, 1], 0.5 + 0.2 * p[:, 1], 0.9 - 0.5 * p[:, 1], np.ones(len(p))])
    return Plate(name, p, np.array(uvs), np.array(triangles), paint, np.array(turned) if tangents else None, shades if colours else None)


def points_on(plates: list[Plate], count: int = 400, seed: int = 3) -> Array:
    """Points (k, 3) that lie on the plates, a little inside their halves."""
    random = np.random.default_rng(seed)
    out = []
    for p in plates:
        low = p.places[:, 0].min()
        half = random.integers(0, 2, count) * 0.5
        out.append(np.column_stack([low + half + random.uniform(0.02, 0.48, count), random.uniform(0.04, 0.96, count), np.zeros(count)]))
    return np.concatenate(out)


_GL = {"base colour": "baseColorTexture", "metal and roughness": "metallicRoughnessTexture", "normal": "normalTexture", "occlusion": "occlusionTexture", "emission": "emissiveTexture"}  # fmt: skip
_CODES = {"repeat": 10497, "clamp": 33071, "mirror": 33648}


def gltf(plates: list[Plate], paints: list[Paint]) -> dict[str, bytes]:
    g, blob = pygltflib.GLTF2(scene=0, scenes=[pygltflib.Scene(nodes=[])]), bytearray()

    def view(body: bytes) -> int:
        blob.extend(b"\0" * (-len(blob) % 4))
        g.bufferViews.append(pygltflib.BufferView(buffer=0, byteOffset=len(blob), byteLength=len(body)))
        blob.extend(body)
        return len(g.bufferViews) - 1

    def accessor(values: Array, kind: str, code: int = 5126) -> int:
        body = np.ascontiguousarray(values, "<f4" if code == 5126 else "<u4")
        more = {"min": body.min(axis=0).tolist(), "max": body.max(axis=0).tolist()} if kind == "VEC3" else {}
        g.accessors.append(pygltflib.Accessor(bufferView=view(body.tobytes()), componentType=code, count=len(body), type=kind, **more))
        return len(g.accessors) - 1

    for n, p in enumerate(plates):
        flat = np.column_stack([p.uvs[:, 0], 1 - p.uvs[:, 1]])
        a = pygltflib.Attributes(POSITION=accessor(p.places, "VEC3"), NORMAL=accessor(np.tile([0.0, 0, 1], (len(p.places), 1)), "VEC3"), TEXCOORD_0=accessor(flat, "VEC2"))  # fmt: skip
        if p.tangents is not None:
            a.TANGENT = accessor(p.tangents, "VEC4")
        if p.colours is not None:
            a.COLOR_0 = accessor(p.colours, "VEC4")
        i = accessor(p.triangles.reshape(-1, 1), "SCALAR", 5125)
        g.meshes.append(pygltflib.Mesh(name=p.name, primitives=[pygltflib.Primitive(attributes=a, indices=i, material=p.paint)]))
        g.nodes.append(pygltflib.Node(name=p.name, mesh=n))
        g.scenes[0].nodes.append(n)

    def info(m: Map, **more: Any) -> dict[str, Any]:
        g.images.append(pygltflib.Image(bufferView=view(png(m.values)), mimeType="image/png"))
        g.samplers.append(pygltflib.Sampler(wrapS=_CODES[m.wrap[0]], wrapT=_CODES[m.wrap[1]]))
        g.textures.append(pygltflib.Texture(source=len(g.images) - 1, sampler=len(g.samplers) - 1))
        out: dict[str, Any] = {"index": len(g.textures) - 1, "texCoord": m.channel} | more
        if m.moved is not None:
            offset, angle, scale = m.moved
            out["extensions"] = {"KHR_texture_transform": {"offset": list(offset), "rotation": angle, "scale": list(scale)}}
            g.extensionsUsed = sorted({*(g.extensionsUsed or []), "KHR_texture_transform"})
        return out

    for m in paints:
        extensions = {"KHR_materials_unlit": {}} if m.unlit else {}
        if m.shine != 1:
            extensions["KHR_materials_emissive_strength"] = {"emissiveStrength": m.shine}
        g.extensionsUsed = sorted({*(g.extensionsUsed or []), *extensions})
        pbr = pygltflib.PbrMetallicRoughness(baseColorFactor=[*m.colour, m.opacity], metallicFactor=m.metal, roughnessFactor=m.roughness)
        out = pygltflib.Material(
            name=m.name, pbrMetallicRoughness=pbr, emissiveFactor=list(m.emission), alphaMode=m.mode, alphaCutoff=m.cutoff if m.mode == "MASK" else None,
            doubleSided=m.double_sided, extensions=extensions,
        )  # fmt: skip
        for kind, one in m.maps.items():
            more = {"scale": m.normal_scale} if kind == "normal" else {"strength": m.strength} if kind == "occlusion" else {}
            setattr(pbr if kind in ("base colour", "metal and roughness") else out, _GL[kind], info(one, **more))
        g.materials.append(out)
    g.buffers.append(pygltflib.Buffer(byteLength=len(blob)))
    g.set_binary_blob(bytes(blob))
    return {"kit.glb": b"".join(g.save_to_bytes())}


def obj(plates: list[Plate], paints: list[Paint]) -> dict[str, bytes]:
    lines, files, base = ["mtllib kit.mtl"], {}, 1
    for p in plates:
        lines += [
            f"o {p.name}",
            *(f"v {x} {y} {z}" for x, y, z in p.places),
            *(f"vt {u} {v}" for u, v in p.uvs),
            f"usemtl {paints[p.paint].name}",
        ]
        lines += ["f " + " ".join(f"{k + base}/{k + base}" for k in t) for t in p.triangles]
        base += len(p.places)
    words = {
        "base colour": "map_Kd",
        "emission": "map_Ke",
        "normal": "norm",
        "roughness": "map_Pr",
        "metal": "map_Pm",
        "opacity": "map_d",
        "height": "map_Bump -bm 0.4",
    }
    out = []
    for m in paints:
        out += [
            f"newmtl {m.name}",
            "Kd {} {} {}".format(*shown(np.array(m.colour))),
            "Ke {} {} {}".format(*shown(np.array(m.emission))),
            f"Pm {m.metal}",
            f"Pr {m.roughness}",
            f"d {m.opacity}",
        ]
        for kind, one in m.maps.items():
            path = f"{m.name}.{kind.replace(' ', '_')}.png"
            files[path] = png(one.values)
            more = "" if one.moved is None else "-s {} {} 1 -o {} {} 0 ".format(*one.moved[2], *one.moved[0])
            out.append(f"{words[kind]} {more}{'-clamp on ' if one.wrap[0] == 'clamp' else ''}{path}")
    return {"kit.obj": "\n".join(lines).encode(), "kit.mtl": "\n".join(out).encode(), **files}


_USD = {"base colour": [("diffuseColor", "color3f", "rgb", "float3")], "emission": [("emissiveColor", "color3f", "rgb", "float3")], "normal": [("normal", "normal3f", "rgb", "float3")],
        "occlusion": [("occlusion", "float", "r", "float")], "roughness": [("roughness", "float", "r", "float")], "metal": [("metallic", "float", "r", "float")],
        "metal and roughness": [("metallic", "float", "b", "float"), ("roughness", "float", "g", "float")], "opacity": [("opacity", "float", "r", "float")]}  # fmt: skip


def usd(plates: list[Plate], paints: list[Paint]) -> dict[str, bytes]:
    files: dict[str, bytes] = {}
    text = ['#usda 1.0\n(\n    defaultPrim = "Kit"\n    upAxis = "Y"\n    metersPerUnit = 1\n)\ndef Xform "Kit"\n{']
    for p in plates:
        n = len(p.triangles)
        text.append(f"""def Mesh "{p.name}" (prepend apiSchemas = ["MaterialBindingAPI"])
{{
    uniform token subdivisionScheme = "none"
    bool doubleSided = {int(paints[p.paint].double_sided)}
    point3f[] points = [{", ".join(f"({x}, {y}, {z})" for x, y, z in p.places)}]
    int[] faceVertexCounts = [{", ".join(["3"] * n)}]
    int[] faceVertexIndices = [{", ".join(str(k) for k in p.triangles.reshape(-1))}]
    texCoord2f[] primvars:st = [{", ".join(f"({u}, {v})" for u, v in p.uvs)}] (interpolation = "vertex")
    rel material:binding = </Kit/Looks/{paints[p.paint].name}>
}}""")
    text.append('def Scope "Looks"\n{')
    for m in paints:
        path, inputs, nodes = f"/Kit/Looks/{m.name}", {}, []
        plain = {"diffuseColor": ("color3f", "({}, {}, {})".format(*m.colour)), "emissiveColor": ("color3f", "({}, {}, {})".format(*m.emission)),
                 "metallic": ("float", str(m.metal)), "roughness": ("float", str(m.roughness)), "opacity": ("float", str(m.opacity)),
                 "opacityThreshold": ("float", str(m.cutoff if m.mode == "MASK" else 0))}  # fmt: skip
        for slot, (kind, value) in plain.items():
            inputs[slot] = f"{kind} inputs:{slot} = {value}"
        for kind, one in m.maps.items():
            file, name = f"textures/{m.name}.{kind.replace(' ', '_')}.png", "Read" + "".join(w.capitalize() for w in kind.split())
            files[file] = png(one.values)
            rough, metal = m.roughness, m.metal
            scale = {"base colour": (*m.colour, m.opacity), "emission": (*m.emission, 1), "roughness": (rough,) * 4, "metal": (metal,) * 4, "metal and roughness": (1, rough, metal, 1),
                     "normal": (2 * m.normal_scale, 2 * m.normal_scale, 2, 1), "occlusion": (m.strength,) * 4, "opacity": (m.opacity,) * 4}[kind]  # fmt: skip
            bias = (
                (-m.normal_scale, -m.normal_scale, -1, 0)
                if kind == "normal"
                else (1 - m.strength,) * 4
                if kind == "occlusion"
                else (0,) * 4
            )
            reader = f"{path}/Uv.outputs:result"
            if one.moved is not None:
                offset, angle, by = one.moved
                reader = f"{path}/{name}Place.outputs:result"
                nodes.append(f"""def Shader "{name}Place"
{{
    uniform token info:id = "UsdTransform2d"
    float2 inputs:in.connect = <{path}/Uv.outputs:result>
    float inputs:rotation = {math.degrees(angle)}
    float2 inputs:scale = ({by[0]}, {by[1]})
    float2 inputs:translation = ({offset[0]}, {offset[1]})
    float2 outputs:result
}}""")
            outputs = {(o, t) for _, _, o, t in _USD[kind]} | ({("a", "float")} if one.values.shape[2] == 4 else set())
            nodes.append(f"""def Shader "{name}"
{{
    uniform token info:id = "UsdUVTexture"
    asset inputs:file = @./{file}@
    float2 inputs:st.connect = <{reader}>
    token inputs:wrapS = "{one.wrap[0]}"
    token inputs:wrapT = "{one.wrap[1]}"
    token inputs:sourceColorSpace = "{"sRGB" if kind in ("base colour", "emission") else "raw"}"
    float4 inputs:scale = {scale}
    float4 inputs:bias = {bias}
    {chr(10).join(f"{t} outputs:{o}" for o, t in sorted(outputs))}
}}""")
            for slot, type_name, output, _ in _USD[kind]:
                inputs[slot] = f"{type_name} inputs:{slot}.connect = <{path}/{name}.outputs:{output}>"
            if kind == "base colour" and one.values.shape[2] == 4:
                inputs["opacity"] = f"float inputs:opacity.connect = <{path}/{name}.outputs:a>"
        body = "\n    ".join(inputs.values())
        text.append(f"""def Material "{m.name}"
{{
    token outputs:surface.connect = <{path}/Surface.outputs:surface>
    def Shader "Surface"
    {{
    uniform token info:id = "UsdPreviewSurface"
    {body}
    token outputs:surface
    }}
    def Shader "Uv"
    {{
    uniform token info:id = "UsdPrimvarReader_float2"
    string inputs:varname = "st"
    float2 outputs:result
    }}
{chr(10).join(nodes)}
}}""")
    text.append("}\n}")
    return {"kit.usda": "\n".join(text).encode(), **files}


WRITERS = {"glb": gltf, "usda": usd, "obj": obj}
