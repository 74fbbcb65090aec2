"""Files as surfaces, opened by other libraries: pygltflib, usd-core, and a reader of OBJ and MTL of a few lines."""

from __future__ import annotations

import math
import tempfile
from pathlib import Path

import numpy as np
import pygltflib
from pxr import Usd, UsdGeom, UsdShade

from .viewer import Array, Look, Quantity, Surface, image, joined, linear, unit


def gltf(files: dict[str, bytes], main: str) -> Surface:
    g = pygltflib.GLTF2.load_from_bytes(files[main])
    blob = g.binary_blob()

    def view(n: int) -> bytes:
        v = g.bufferViews[n]
        return blob[(v.byteOffset or 0) : (v.byteOffset or 0) + v.byteLength]

    def array(n: int | None, width: int) -> Array | None:
        if n is None:
            return None
        a = g.accessors[n]
        kind = {5126: "<f4", 5125: "<u4", 5123: "<u2", 5121: "u1"}[a.componentType]
        v = g.bufferViews[a.bufferView]
        start = (v.byteOffset or 0) + (a.byteOffset or 0)
        flat = np.frombuffer(blob, kind, a.count * width, start).reshape(a.count, width).astype(float)
        return flat / np.iinfo(kind).max if a.normalized else flat

    def picture(n: int) -> Array:
        i = g.images[g.textures[n].source]
        return image(view(i.bufferView) if i.bufferView is not None else files[i.uri])

    parts: list[tuple[Array, ...]] = []
    sets: list[dict[str, Array]] = []

    def walk(n: int, above: Array) -> None:
        node = g.nodes[n]
        world = above @ (np.array(node.matrix).reshape(4, 4).T if node.matrix else placed(node))
        for p in g.meshes[node.mesh].primitives if node.mesh is not None else ():
            a = p.attributes
            i = array(p.indices, 1)[:, 0].astype(int).reshape(-1, 3)
            xyz = array(a.POSITION, 3) @ world[:3, :3].T + world[:3, 3]
            normal = array(a.NORMAL, 3)
            normal = np.tile([0.0, 0, 1], (len(xyz), 1)) if normal is None else unit(normal @ np.linalg.inv(world[:3, :3]))
            tangent = array(a.TANGENT, 4)
            if tangent is None:
                tangent = np.full((len(xyz), 4), np.nan)
            else:
                tangent = np.column_stack([unit(tangent[:, :3] @ world[:3, :3].T), tangent[:, 3]])
            width = 0 if a.COLOR_0 is None else {"VEC3": 3, "VEC4": 4}[g.accessors[a.COLOR_0].type]
            colour = np.full((len(xyz), 4), np.nan)
            if width:
                colour[:, 3] = 1
                colour[:, :width] = array(a.COLOR_0, width)
            parts.append((xyz[i], normal[i], tangent[i], np.full(len(i), -1 if p.material is None else p.material), colour[i]))
            own = {}
            for k in range(3):
                uv = array(getattr(a, f"TEXCOORD_{k}", None), 2)
                if uv is not None:
                    own[str(k)] = np.column_stack([uv[:, 0], 1 - uv[:, 1]])[i]
            sets.append(own)
        for child in node.children or ():
            walk(child, world)

    for n in g.scenes[g.scene or 0].nodes:
        walk(n, np.eye(4))
    return joined(parts, sets, [gltf_look(g, m, picture) for m in g.materials])


def placed(node: pygltflib.Node) -> Array:
    out = np.eye(4)
    x, y, z, w = node.rotation or (0, 0, 0, 1)
    turn = [[1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)], [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)]]  # fmt: skip
    out[:3, :3], out[:3, 3] = np.array(turn) * (node.scale or (1, 1, 1)), node.translation or (0, 0, 0)
    return out


def gltf_look(g: pygltflib.GLTF2, m: pygltflib.Material, picture) -> Look:
    pbr = m.pbrMetallicRoughness or pygltflib.PbrMetallicRoughness()
    factor = np.array(pbr.baseColorFactor or (1, 1, 1, 1), float)
    metal = 1.0 if pbr.metallicFactor is None else pbr.metallicFactor
    rough = 1.0 if pbr.roughnessFactor is None else pbr.roughnessFactor
    extensions = m.extensions or {}
    shine = (extensions.get("KHR_materials_emissive_strength") or {}).get("emissiveStrength", 1.0)
    emission = np.array(m.emissiveFactor or (0, 0, 0), float) * shine

    def read(info, plain, **more) -> Quantity:
        if info is None:
            return Quantity(np.atleast_1d(np.array(plain, float)))
        entry = info if isinstance(info, dict) else info.__dict__
        moved = (entry.get("extensions") or {}).get("KHR_texture_transform") or {}
        (sx, sy), (ox, oy), r = moved.get("scale", (1, 1)), moved.get("offset", (0, 0)), moved.get("rotation", 0)
        # As the extension's text multiplies them: translation, rotation, scale; v downward.
        t = np.array([[1, 0, ox], [0, 1, oy], [0, 0, 1]]) @ np.array([[math.cos(r), math.sin(r), 0], [-math.sin(r), math.cos(r), 0], [0, 0, 1]]) @ np.diag([sx, sy, 1.0])  # fmt: skip
        flip = np.array([[1.0, 0, 0], [0, -1, 1], [0, 0, 1]])
        sampler = g.textures[entry["index"]].sampler
        codes = {10497: "repeat", 33071: "clamp", 33648: "mirror", None: "repeat"}
        wrap = ("repeat", "repeat") if sampler is None else (codes[g.samplers[sampler].wrapS], codes[g.samplers[sampler].wrapT])
        channel = moved.get("texCoord", entry.get("texCoord") or 0)
        return Quantity(np.zeros(1), picture(entry["index"]), str(channel), (flip @ t @ flip)[:2], wrap, **more)

    base, mr, normal, occlusion = pbr.baseColorTexture, pbr.metallicRoughnessTexture, m.normalTexture, m.occlusionTexture
    ns = 1.0 if normal is None or normal.scale is None else normal.scale
    os = 1.0 if occlusion is None or occlusion.strength is None else occlusion.strength
    look = Look({
        "colour": read(base, factor[:3], srgb=True, scale=factor), "alpha": read(base, factor[3], scale=factor, part="a"),
        "metal": read(mr, metal, part="b", scale=np.full(4, metal)), "roughness": read(mr, rough, part="g", scale=np.full(4, rough)),
        "emission": read(m.emissiveTexture, emission, srgb=True, scale=np.array([*emission, 1])),
        "occlusion": read(occlusion, 1.0, part="r", scale=np.full(4, os), bias=np.full(4, 1 - os)),
        "normal": read(normal, (0, 0, 1), scale=np.array([2 * ns, 2 * ns, 2, 1]), bias=np.array([-ns, -ns, -1, 0])),
    }, (m.alphaMode or "OPAQUE").lower(), 0.5 if m.alphaCutoff is None else m.alphaCutoff, bool(m.doubleSided), "KHR_materials_unlit" in extensions)  # fmt: skip
    return look


def usd(files: dict[str, bytes], main: str) -> Surface:
    with tempfile.TemporaryDirectory() as folder:
        for path, body in files.items():
            (Path(folder) / path).parent.mkdir(parents=True, exist_ok=True)
            (Path(folder) / path).write_bytes(body)
        stage = Usd.Stage.Open(str(Path(folder) / main))
        looks: list[Look] = []
        known: dict[str, int] = {}
        parts, sets = [], []
        for prim in stage.Traverse():
            if not prim.IsA(UsdGeom.Mesh):
                continue
            mesh, api = UsdGeom.Mesh(prim), UsdGeom.PrimvarsAPI(prim)
            world = np.array(UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(0)).T
            xyz = np.array(mesh.GetPointsAttr().Get()) @ world[:3, :3].T + world[:3, 3]
            counts, index = np.array(mesh.GetFaceVertexCountsAttr().Get()), np.array(mesh.GetFaceVertexIndicesAttr().Get())
            starts = np.cumsum(np.r_[0, counts])
            corner = np.array([[starts[f], starts[f] + k, starts[f] + k + 1] for f, n in enumerate(counts) for k in range(1, n - 1)])
            face = np.array([f for f, n in enumerate(counts) for _ in range(1, n - 1)])
            normals = mesh.GetNormalsAttr().Get()
            normals = np.tile([0.0, 0, 1], (len(index), 1)) if normals is None else unit(np.array(normals) @ np.linalg.inv(world[:3, :3]))
            normals = normals if len(normals) == len(index) else normals[index]
            numbers = []
            bound = {f: UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0] for f in range(len(counts))}
            for s in UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets():
                for f in s.GetIndicesAttr().Get():
                    bound[f] = UsdShade.MaterialBindingAPI(s.GetPrim()).ComputeBoundMaterial()[0]
            for f in face:
                key = str(bound[f].GetPath()) if bound[f] else ""
                if key not in known:
                    known[key] = len(looks)
                    looks.append(usd_look(bound[f], Path(folder)) if bound[f] else Look())
                looks[known[key]].double_sided |= bool(mesh.GetDoubleSidedAttr().Get())
                numbers.append(known[key])
            colours = np.full((len(index), 4), np.nan)
            shade = api.GetPrimvar("displayColor")
            if shade and shade.HasValue():
                values = np.array(shade.ComputeFlattened())
                colours[:, 3] = 1
                colours[:, :3] = values if len(values) == len(index) else values[index]
                seen = api.GetPrimvar("displayOpacity")
                if seen and seen.HasValue():
                    values = np.array(seen.ComputeFlattened())
                    colours[:, 3] = values if len(values) == len(index) else values[index]
            parts.append((xyz[index][corner], normals[corner], np.full((len(corner), 3, 4), np.nan), np.array(numbers), colours[corner]))
            own = {}
            for pv in api.GetPrimvarsWithValues():
                if "texCoord2" in str(pv.GetTypeName()):
                    values = np.array(pv.ComputeFlattened())
                    own[pv.GetPrimvarName()] = (values if len(values) == len(index) else values[index])[corner]
            sets.append(own)
        return joined(parts, sets, looks)


def usd_look(material: UsdShade.Material, folder: Path) -> Look:
    surface = material.ComputeSurfaceSource()[0]

    def of(node, name, usual):
        entry = node.GetInput(name)
        value = entry.Get() if entry else None
        return usual if value is None else value

    def read(slot: str, plain, usual_part: str, srgb: bool = False) -> Quantity:
        entry = surface.GetInput(slot)
        source = entry.GetConnectedSource() if entry else None
        if not source:
            value = entry.Get() if entry and entry.Get() is not None else plain
            return Quantity(np.atleast_1d(np.array(value, float)))
        node = UsdShade.Shader(source[0].GetPrim())
        path = folder / str(of(node, "file", None).path)
        matrix = np.eye(3)
        reader = UsdShade.Shader(node.GetInput("st").GetConnectedSource()[0].GetPrim())
        if reader.GetIdAttr().Get() == "UsdTransform2d":
            (sx, sy), (tx, ty), r = of(reader, "scale", (1, 1)), of(reader, "translation", (0, 0)), math.radians(of(reader, "rotation", 0))
            matrix = np.array([[1, 0, tx], [0, 1, ty], [0, 0, 1]]) @ np.array([[math.cos(r), -math.sin(r), 0], [math.sin(r), math.cos(r), 0], [0, 0, 1]]) @ np.diag([sx, sy, 1.0])  # fmt: skip
            reader = UsdShade.Shader(reader.GetInput("in").GetConnectedSource()[0].GetPrim())
        part = str(source[1])
        wrap = tuple({"black": "none"}.get(str(of(node, f"wrap{x}", "repeat")), str(of(node, f"wrap{x}", "repeat"))) for x in "ST")
        return Quantity(
            np.zeros(1), image(path.read_bytes()), str(of(reader, "varname", "st")), matrix[:2], wrap, part if part != "rgb" else usual_part,
            srgb and str(of(node, "sourceColorSpace", "auto")) != "raw", np.array(of(node, "scale", (1, 1, 1, 1)), float), np.array(of(node, "bias", (0, 0, 0, 0)), float),
        )  # fmt: skip

    threshold = float(of(surface, "opacityThreshold", 0.0))
    opacity = read("opacity", 1.0, "r")
    mode = "mask" if threshold > 0 else "blend" if opacity.picture is not None or opacity.plain[0] < 1 else "opaque"
    return Look({
        "colour": read("diffuseColor", (0.18, 0.18, 0.18), "rgb", True), "alpha": opacity, "metal": read("metallic", 0.0, "r"),
        "roughness": read("roughness", 0.5, "r"), "emission": read("emissiveColor", (0, 0, 0), "rgb", True), "occlusion": read("occlusion", 1.0, "r"),
        "normal": read("normal", (0, 0, 1), "rgb"),
    }, mode, threshold or 0.5)  # fmt: skip


def obj(files: dict[str, bytes], main: str) -> Surface:
    v, vt, vn, rows, names, libraries, now = [], [], [], [], [], [], ""
    for line in files[main].decode().splitlines():
        word, _, rest = line.strip().partition(" ")
        if word in ("v", "vt", "vn"):
            {"v": v, "vt": vt, "vn": vn}[word].append([float(x) for x in rest.split()])
        elif word == "usemtl":
            now = rest.strip()
        elif word == "mtllib":
            libraries.append(rest.strip())
        elif word == "f":
            corners = [([int(x) if x else 0 for x in c.split("/")] + [0, 0])[:3] for c in rest.split()]
            for k in range(1, len(corners) - 1):
                rows.append([corners[0], corners[k], corners[k + 1]])
                names.append(now)
    i = np.array(rows)
    uv = np.array([*vt, [0.0, 0]])[i[:, :, 1] - 1][:, :, :2]
    normals = np.array([*vn, [0.0, 0, 1]])[i[:, :, 2] - 1]
    known = list(dict.fromkeys(names))
    looks = {n: Look() for n in known} | {n: look for path in libraries for n, look in mtl(files, path).items()}
    places = np.array(v)[i[:, :, 0] - 1][:, :, :3]
    nothing = np.full((len(i), 3, 4), np.nan)
    return Surface(places, normals, nothing, {"": uv}, np.array([known.index(n) for n in names]), [looks[n] for n in known], nothing)


def mtl(files: dict[str, bytes], path: str) -> dict[str, Look]:
    blocks: dict[str, dict[str, list[str]]] = {}
    now: dict[str, list[str]] = {}
    for line in files[path].decode().splitlines():
        words = line.split()
        if words and words[0] == "newmtl":
            now = blocks.setdefault(words[1], {})
        elif words and not words[0].startswith("#"):
            now[words[0]] = words[1:]
    return {name: mtl_look(files, b) for name, b in blocks.items()}


def mtl_look(files: dict[str, bytes], b: dict[str, list[str]]) -> Look:
    def numbers(word: str, usual: list[float]) -> Array:
        return np.array([float(x) for x in b[word]] if word in b else usual)

    def read(word: str, factor: Array, part: str, srgb: bool = False, **more) -> Quantity:
        if word not in b:
            return Quantity(factor)
        words = b[word]
        said = {w: words[k + 1 : k + 4] for k, w in enumerate(words) if w.startswith("-")}
        s, o = (np.array([float(x) for x in said.get(w, usual)][:2]) for w, usual in (("-s", "11"), ("-o", "00")))
        wrap = "clamp" if said.get("-clamp", [""])[0] == "on" else "repeat"
        scale = np.array([*factor, 1.0]) if len(factor) == 3 else np.full(4, factor[0])
        return Quantity(
            np.zeros(1),
            image(files[words[-1]]),
            "",
            np.column_stack([np.diag(s), o]),
            (wrap, wrap),
            part,
            srgb,
            **({"scale": scale} | more),
        )

    d = numbers("d", [1.0])
    # Plain colours are stored in sRGB, see docs/formats.md.
    look = Look({
        "colour": read("map_Kd", linear(numbers("Kd", [1, 1, 1])), "rgb", True), "alpha": read("map_d", d, "r"), "metal": read("map_Pm", numbers("Pm", [0.0]), "r"),
        "roughness": read("map_Pr", numbers("Pr", [1.0]), "r"), "emission": read("map_Ke", linear(numbers("Ke", [0, 0, 0])), "rgb", True),
        "normal": read("norm", np.array([0.0, 0, 1]), "rgb", scale=np.array([2.0, 2, 2, 1]), bias=np.array([-1.0, -1, -1, 0])),
        "height": read("map_Bump", np.array([0.0]), "r"),
    }, "blend" if "map_d" in b or d[0] < 1 else "opaque")  # fmt: skip
    return look


def of_file(files: dict[str, bytes], main: str) -> Surface:
    """A surface from files of any of the three formats."""
    return {"glb": gltf, "obj": obj}.get(main.rsplit(".", 1)[-1], usd)(files, main)
