"""The files of one USD scene: the layers that it is composed of, in a folder that lasts as long as the stage is looked at.

USD opens layers by path. So that nothing but what the user brought in is ever opened, every layer is written into an empty folder,
and a scene that names a layer anywhere else is refused.
"""

from __future__ import annotations

import io
import posixpath
import tempfile
import zipfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pxr import Sdf, Tf, Usd

from ...errors import FileError
from ..beside import find_resource

MOST_FILES = 2000
_ENDINGS = (".usd", ".usda", ".usdc")
# What the library raises over a damaged file.
ERRORS = (Tf.ErrorException, UnicodeDecodeError)


@dataclass
class Layers:
    """The bytes of a scene's layers by path (of a package: all files in it, in its order); `root` opens it."""

    file: str
    root: str
    packed: bool
    bodies: dict[str, bytes] = field(default_factory=dict)
    missing: list[str] = field(default_factory=list)

    def fail(self, what: str, where: str = "", remedy: str = "") -> FileError:
        """An error about this scene."""
        return FileError(self.file, what, where, remedy)


def gather(data: bytes, file: str, resources: Mapping[str, bytes]) -> Layers:
    """The layers of a scene: the file itself, and what it is composed of as far as it came along.

    Raises
    ------
    FileError : not a USD file, or one that refers to layers outside its folder
    """
    if data[:4] == b"PK\x03\x04":
        return _unpacked(data, file)
    root = posixpath.basename(file.replace("\\", "/")) or "root.usd"
    out = Layers(file, root, False, {root: data})
    with tempfile.TemporaryDirectory(prefix="quilt-usd-") as folder:
        waiting = [root]
        while waiting:
            name = waiting.pop()
            _put(Path(folder), name, out.bodies[name])
            for wanted in _dependencies(out, Path(folder) / name, name):
                if wanted in out.bodies or wanted in out.missing:
                    continue
                found = find_resource(wanted, resources)
                if found is None:
                    out.missing.append(wanted)
                elif len(out.bodies) >= MOST_FILES:
                    raise out.fail(f"it is composed of more than {MOST_FILES} files", "", "Flatten it into one file.")
                else:
                    out.bodies[wanted] = resources[found]
                    waiting.append(wanted)
    return out


def _put(folder: Path, name: str, body: bytes) -> None:
    try:
        target = folder / name
        if not target.resolve().is_relative_to(folder.resolve()):
            raise FileError(name, "its name leads out of the folder")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(body)
    except (OSError, ValueError) as e:
        raise FileError(name[:200], "a file cannot have this name", "", "Rename it.") from e


def _dependencies(layers: Layers, path: Path, name: str) -> list[str]:
    """Paths, from the root's folder, of the layers that one refers to."""
    try:
        layer = Sdf.Layer.FindOrOpen(str(path))
        # A binary layer unpacks its values when they are asked for, so a damaged one may open.
        clips = [] if layer is None else _clips(layers, layer, name)
        named = [] if layer is None else [*layer.GetCompositionAssetDependencies(), *clips]
    except FileError:
        raise
    except Exception as e:  # a value of a foreign type comes out as anything
        raise layers.fail(f"'{name}' cannot be read as USD", _line(e), "Export it again.") from e
    if layer is None:
        raise layers.fail(f"'{name}' cannot be read as USD", "", "Export it again.")
    out = []
    for asset in named:
        if "`" in asset:
            raise layers.fail("what it is composed of is computed from variables", name, "Flatten it into one file.")
        wanted = asset.replace("\\", "/")
        if not wanted:
            continue
        inside = posixpath.normpath(posixpath.join(posixpath.dirname(name), wanted))
        if "://" in wanted or posixpath.isabs(wanted) or wanted[1:2] == ":" or inside.startswith(".."):
            raise layers.fail(f"it is composed of '{asset}', outside its own folder", name, "Flatten it into one file.")
        out.append(inside)
    return out


def _clips(layers: Layers, layer: Any, name: str) -> list[str]:
    """Paths of the layers that values are taken from over time: those are opened only when a value is asked for, and are no part of the composition.

    Raises
    ------
    FileError : something is listed in the layer that is not there, over which the library would end the program as soon as it looks for it
    """
    out: list[str] = []

    def look(path: Any) -> None:
        spec = None if path.isEmpty else layer.GetObjectAtPath(path)
        if spec is None and (path.isEmpty or path.IsPrimPath() or path.IsPrimVariantSelectionPath() or path.IsPropertyPath()):
            raise layers.fail(f"'{name}' lists things that are not in it", "", "Export it again.")
        clips = spec.GetInfo("clips") if isinstance(spec, Sdf.PrimSpec) and spec.HasInfo("clips") else {}
        for of in clips.values() if isinstance(clips, dict) else ():
            if not isinstance(of, dict):
                continue
            if of.get("templateAssetPath"):
                raise layers.fail("it takes values over time from a row of files", f"{name}, {path}", "Flatten it into one file.")
            named = [*(of.get("assetPaths") or []), *([of["manifestAssetPath"]] if of.get("manifestAssetPath") else [])]
            out.extend(a.path for a in named if isinstance(a, Sdf.AssetPath))

    layer.Traverse(Sdf.Path.absoluteRootPath, look)
    return out


def _line(error: Exception) -> str:
    """The place in a text layer that an error names, if any."""
    try:
        text = str(error)
    except UnicodeDecodeError:  # it quotes bytes that are no text
        return ""
    at = text.find(".usda:")
    return f"line {text[at + 6 :].split(':')[0]}" if at >= 0 and text[at + 6 : at + 7].isdecimal() else ""


def _unpacked(data: bytes, file: str) -> Layers:
    """A package: a zip of files stored as they are, of which the first is the root (the specification of usdz)."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            entries = [e for e in archive.infolist() if not e.filename.endswith("/")]
            if not all(e.filename for e in entries):
                raise FileError(file, "a file of the package has no name", "", "Export it again.")
            if any(e.compress_type != zipfile.ZIP_STORED or e.flag_bits & 1 for e in entries):
                raise FileError(file, "its files are compressed, which a usdz must not do", "", "Export it again.")
            if not entries or len(entries) > MOST_FILES:
                raise FileError(file, f"the package holds {len(entries)} files", "", "Export it again.")
            bodies = {e.filename: archive.read(e) for e in entries}
    except (zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError, ValueError, OSError) as e:
        raise FileError(file, "the package is damaged", "", "Copy the file again.") from e
    root = next(iter(bodies))
    if not root.lower().endswith(_ENDINGS):
        raise FileError(file, f"the first file of the package is '{root}', not a layer", "", "Export it again.")
    return Layers(file, root, True, bodies)


@contextmanager
def opened(layers: Layers) -> Iterator[tuple[Any, Path]]:
    """The stage of a scene, and the folder that its layers are in.

    Raises
    ------
    FileError : it cannot be composed, or a layer outside the folder was opened
    """
    with tempfile.TemporaryDirectory(prefix="quilt-usd-") as name:
        folder = Path(name).resolve()
        for path, body in layers.bodies.items():
            _put(folder, path, body)
        for path in layers.bodies if layers.packed else ():
            if path.lower().endswith(_ENDINGS):
                _dependencies(layers, folder / path, path)
        try:
            stage = Usd.Stage.Open(str(folder / layers.root))
        except ERRORS as e:
            raise layers.fail("it cannot be read as USD", _line(e), "Export it again.") from e
        _check_used(stage, layers, folder)
        yield stage, folder
        _check_used(stage, layers, folder)  # reading a value may have opened more


def _check_used(stage: Any, layers: Layers, folder: Path) -> None:
    for layer in stage.GetUsedLayers(True):
        if not layer.anonymous and not Path(layer.realPath).resolve().is_relative_to(folder):
            raise layers.fail(f"it is composed of '{layer.identifier}', outside its own folder", "", "Flatten it into one file.")


def packed(bodies: Mapping[str, bytes]) -> bytes:
    """A package of files, the root first, each aligned as the specification wants it."""
    with tempfile.TemporaryDirectory(prefix="quilt-usd-") as name:
        folder = Path(name)
        target = folder / "package.usdz"
        writer = Sdf.ZipFileWriter.CreateNew(str(target))
        for path, body in bodies.items():
            _put(folder / "in", path, body)
            writer.AddFile(str(folder / "in" / path), path)
        writer.Save()
        return target.read_bytes()


def saved(folder: Path, layers: Layers, changed: set[str]) -> dict[str, bytes]:
    """Save the changed layers of an opened scene and give the files that differ; the package anew where it is one."""
    bodies = dict(layers.bodies)
    for path in sorted(changed):
        layer = Sdf.Layer.Find(str(folder / path))
        if layer is None or not layer.Save():
            raise layers.fail(f"'{path}' cannot be written")
        bodies[path] = (folder / path).read_bytes()
    if layers.packed:
        return {"": packed(bodies)}
    return {"" if path == layers.root else path: bodies[path] for path in changed | {layers.root}}
