"""The pictures of a glTF document: beside it, inside a buffer, or written out in its text."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterator, Mapping
from urllib.parse import unquote

from .container import Document


def path_of(document: Document, number: int) -> str:
    """What a material calls image `number`: its file, or `#` and the number for one that the document holds."""
    uri = document.item("images", number, "texture").get("uri")
    return unquote(uri) if isinstance(uri, str) and not uri.startswith("data:") else f"#{number}"


class Inside(Mapping[str, bytes]):
    """The pictures that a document holds itself, by `path_of`. They are taken out when they are asked for; damaged ones are not there."""

    def __init__(self, document: Document) -> None:
        self._document = document

    def __getitem__(self, path: str) -> bytes:
        number = path[1:]
        if not path.startswith("#") or not number.isdecimal() or int(number) >= len(self._document.list("images")):
            raise KeyError(path)
        body = self._body(int(number))
        if body is None:
            raise KeyError(path)
        return body

    def _body(self, number: int) -> bytes | None:
        image = self._document.item("images", number, "texture")
        uri, view = image.get("uri"), image.get("bufferView")
        if isinstance(uri, str):
            try:
                return base64.b64decode(uri.partition(",")[2], validate=True) if uri.startswith("data:") else None
            except (binascii.Error, ValueError):
                return None
        if view is None:
            return None
        place = self._document.item("bufferViews", view, "image")
        buffer, start, length = place.get("buffer", -1), place.get("byteOffset", 0), place.get("byteLength", 0)
        buffers = self._document.buffers
        good = all(isinstance(n, int) and n >= 0 for n in (buffer, start, length)) and buffer < len(buffers)
        return bytes(buffers[buffer][start : start + length]) if good and start + length <= len(buffers[buffer]) else None

    def __iter__(self) -> Iterator[str]:
        return (f"#{n}" for n in range(len(self._document.list("images"))))

    def __len__(self) -> int:
        return len(self._document.list("images"))
