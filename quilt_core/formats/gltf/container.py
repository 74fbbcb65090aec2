"""glTF 2.0 containers: JSON with buffers, or a GLB with both in chunks, into a document and back.

Standard: Khronos glTF 2.0 specification, sections 3 (concepts) and 4 (GLB).
"""

from __future__ import annotations

import base64
import binascii
import json
import struct
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import unquote

from ...errors import FileError
from ..beside import find_resource

_GLB, _JSON, _BIN = 0x46546C67, 0x4E4F534A, 0x004E4942


@dataclass
class Document:
    """A glTF document with its buffers resolved.

    `uris` keeps where each buffer came from: "" for the GLB chunk, "data:" for an embedded one, else the path.
    """

    file: str
    json: dict[str, Any]
    buffers: list[bytes | bytearray]
    uris: list[str]
    glb: bool
    extra_chunks: list[tuple[int, bytes]] = field(default_factory=list)

    def fail(self, what: str, where: str = "", remedy: str = "") -> FileError:
        """An error about this file."""
        return FileError(self.file, what, where, remedy)

    def list(self, key: str) -> list[dict[str, Any]]:
        """A top-level array of objects, empty when it is missing."""
        value = self.json.get(key, [])
        if not isinstance(value, list) or not all(isinstance(x, dict) for x in value):
            raise self.fail(f"'{key}' is not a list of objects")
        return value

    def item(self, key: str, index: Any, where: str) -> dict[str, Any]:
        """An entry of a top-level array, with the reference checked."""
        entries = self.json.get(key, [])
        if not isinstance(entries, list):
            raise self.fail(f"'{key}' is not a list of objects")
        if isinstance(index, bool) or not isinstance(index, int) or not 0 <= index < len(entries):
            raise self.fail(f"refers to {key}[{index!r}], and there are {len(entries)}", where)
        # Only this one is looked at: whoever walks through all of them would look at all of them each time.
        if not isinstance(entries[index], dict):
            raise self.fail(f"'{key}' is not a list of objects")
        return entries[index]  # type: ignore[no-any-return]

    def edit(self, buffer: int) -> bytearray:
        """A buffer to change in place; it is copied once, the first time."""
        body = self.buffers[buffer]
        if not isinstance(body, bytearray):
            body = self.buffers[buffer] = bytearray(body)
        return body

    def append(self, body: bytes, target: int | None = None) -> int:
        """Put bytes at the end of the file's own buffer (the chunk of a GLB), or of the first one; returns the number of a view of them."""
        buffers = self.json.setdefault("buffers", [])
        own = self.uris.index("") if self.glb and "" in self.uris else 0
        if not buffers or (self.glb and "" not in self.uris):
            # The chunk of a GLB is its first buffer (specification 4.4.3.3): numbers of others move up.
            own = 0
            for view in self.json.get("bufferViews", []):
                view["buffer"] += 1
            buffers.insert(0, {"byteLength": 0} if self.glb else {"byteLength": 0, "uri": "data:application/octet-stream;base64,"})
            self.buffers.insert(0, b"")
            self.uris.insert(0, "" if self.glb else "data:")
        whole = self.edit(own)
        del whole[buffers[own]["byteLength"] :]
        start = len(whole) + (-len(whole) % 4)
        whole += b"\0" * (start - len(whole))
        whole += body
        buffers[own]["byteLength"] = len(whole)
        views = self.json.setdefault("bufferViews", [])
        views.append({"buffer": own, "byteOffset": start, "byteLength": len(body)} | ({} if target is None else {"target": target}))
        return len(views) - 1


def parse(data: bytes, file: str, resources: Mapping[str, bytes] | None = None) -> Document:
    """Open a `.glb` or `.gltf`.

    Parameters
    ----------
    resources : the files beside it, by path relative to it; only these are ever read

    Raises
    ------
    FileError : a damaged container, a missing or short buffer
    """
    document = _parse_glb(data, file) if data[:4] == b"glTF" else Document(file, _load(data, file), [], [], False)
    version = document.json.get("asset", {}).get("version") if isinstance(document.json.get("asset"), dict) else None
    if not str(version).startswith("2"):
        found = f"it says version {version}" if version else "it does not name its version"
        raise FileError(file, f"this is not glTF 2.0 ({found})", "asset", "Export it as glTF 2.0.")
    _check_primitives(document)
    _resolve_buffers(document, resources or {})
    return document


def _check_primitives(document: Document) -> None:
    """Every primitive is what its readers and writers walk through, in meshes that no node shows too: who writes looks at all of them."""
    for m, mesh in enumerate(document.list("meshes")):
        primitives = mesh.get("primitives", [])
        if not isinstance(primitives, list) or not all(isinstance(p, dict) for p in primitives):
            raise document.fail("its primitives are no list of objects", f"mesh {m}")
        for n, p in enumerate(primitives):
            if not isinstance(p.get("attributes", {}), dict):
                raise document.fail("its attributes are no object", f"mesh {m}, primitive {n}")
            targets = p.get("targets", [])
            if not isinstance(targets, list) or not all(isinstance(x, dict) for x in targets):
                raise document.fail("its morph targets are no list of objects", f"mesh {m}, primitive {n}")


def _text(value: dict[str, Any]) -> bytes:
    try:
        return json.dumps(value, ensure_ascii=False, separators=(",", ":")).encode()
    except UnicodeEncodeError:  # halves of signs, which JSON can name and no text can hold: they stay named
        return json.dumps(value, separators=(",", ":")).encode()


def _load(data: bytes, file: str) -> dict[str, Any]:
    try:
        value = json.loads(data.decode("utf-8-sig"))
    except (ValueError, RecursionError) as e:  # of ValueError also numbers of thousands of digits
        raise FileError(file, "the JSON part cannot be read", str(e)[:80], "Export the file again.") from e
    if not isinstance(value, dict):
        raise FileError(file, "the JSON part is not an object", "", "Export the file again.")
    return value


def _parse_glb(data: bytes, file: str) -> Document:
    if len(data) < 20:
        raise FileError(file, "the GLB ends within its header", "", "Copy the file again.")
    _, version, total = struct.unpack_from("<III", data)
    if version != 2:
        raise FileError(file, f"this is GLB version {version}", "", "Export it as glTF 2.0.")
    if total > len(data):
        raise FileError(file, f"it says {total} bytes and has {len(data)}", "header", "Copy the file again.")
    at, chunks = 12, []
    while at + 8 <= total:
        size, kind = struct.unpack_from("<II", data, at)
        if at + 8 + size > total:
            raise FileError(file, "a chunk is longer than the file", f"byte {at}", "Copy the file again.")
        chunks.append((kind, data[at + 8 : at + 8 + size]))
        at += 8 + size
    if not chunks or chunks[0][0] != _JSON:
        raise FileError(file, "the first chunk is not JSON", "byte 12", "Export the file again.")
    rest = chunks[1:]
    binary: list[bytes | bytearray] = [rest[0][1]] if rest and rest[0][0] == _BIN else []
    return Document(file, _load(chunks[0][1], file), binary, [], True, rest[len(binary) :])


def _resolve_buffers(document: Document, resources: Mapping[str, bytes]) -> None:
    chunk = document.buffers
    document.buffers = []
    for i, buffer in enumerate(document.list("buffers")):
        uri = buffer.get("uri")
        where = f"buffer {i}"
        if uri is None:
            if i or not chunk:
                raise document.fail("has no data", where, "Export the file again.")
            body = chunk[0]
            document.uris.append("")
        elif not isinstance(uri, str):
            raise document.fail("its uri is not text", where)
        elif uri.startswith("data:"):
            try:
                body = base64.b64decode(uri.partition(",")[2], validate=True)
            except (binascii.Error, ValueError) as e:
                raise document.fail("its embedded data is not base64", where, "Export the file again.") from e
            document.uris.append("data:")
        else:
            path = find_resource(uri, resources)
            if path is None:
                raise document.fail(f"'{unquote(uri)}' is missing", where, "Bring it in together with this file.")
            body = resources[path]
            document.uris.append(path)
        length = buffer.get("byteLength")
        if not isinstance(length, int) or length < 0 or length > len(body):
            raise document.fail(f"it says {length!r} bytes and has {len(body)}", where, "Copy the file again.")
        document.buffers.append(body)


def serialise(document: Document) -> dict[str, bytes]:
    """The bytes of the document: `{"": main file}` and, for external buffers, their paths."""
    out: dict[str, bytes] = {}
    buffers = document.json.get("buffers", [])
    binary: bytes | bytearray | None = None
    for i, body in enumerate(document.buffers):
        uri = document.uris[i]
        if uri == "":
            binary = body
        elif uri == "data:":
            head = buffers[i]["uri"].partition(",")[0]
            buffers[i]["uri"] = head + "," + base64.b64encode(body).decode()
        else:
            out[uri] = bytes(body)
    text = _text(document.json)
    if not document.glb:
        out[""] = text
        return out
    chunks = [(_JSON, text + b" " * (-len(text) % 4))]
    if binary is not None:
        chunks.append((_BIN, bytes(binary) + b"\0" * (-len(binary) % 4)))
    body = b"".join(struct.pack("<II", len(c), k) + c for k, c in chunks + document.extra_chunks)
    out[""] = struct.pack("<III", _GLB, 2, 12 + len(body)) + body
    return out
