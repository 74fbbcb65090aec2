"""A COLLADA document as elements that know where they stand in the file, so that a change touches only its own bytes.

Expat tells the places. Documents with a DTD are refused: entities of their own could grow without end, and the format needs none.
"""

from __future__ import annotations

import re
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any
from xml.parsers import expat
from xml.sax.saxutils import unescape

import numpy as np
from numpy.typing import NDArray

from ...errors import FileError

MOST_DEPTH = 400
_TAG_END = re.compile(rb"""(?:[^>"']|"[^"]*"|'[^']*')*>""")


@dataclass
class Element:
    """An element: its name without prefix, and byte offsets of its start tag, of what is between its tags, and of its end."""

    tag: str
    attributes: dict[str, str]
    begin: int
    inner: int = 0
    close: int = 0
    end: int = 0
    children: list[Element] = field(default_factory=list)

    def all(self, *tags: str) -> list[Element]:
        """Its children of these names."""
        return [c for c in self.children if c.tag in tags]

    def one(self, *path: str) -> Element | None:
        """The first child of the first name, its first child of the next, and so on; None where there is none."""
        at: Element | None = self
        for tag in path:
            at = next((c for c in at.children if c.tag == tag), None) if at is not None else None
        return at

    def walk(self) -> Iterator[Element]:
        """It and everything in it."""
        stack = [self]
        while stack:
            e = stack.pop()
            yield e
            stack += reversed(e.children)

    def get(self, name: str, usual: str = "") -> str:
        """An attribute."""
        return self.attributes.get(name, usual)


class Document:
    """The bytes of a file and its elements; `ids` has those with an id, of which the first of a name counts."""

    def __init__(self, body: bytes, file: str) -> None:
        self.file, self.body = file, _as_utf8(body)
        self.root = self._parse()
        if self.root.tag != "COLLADA":
            raise self.fail(f"its outermost element is <{self.root.tag}>, not <COLLADA>")
        start = self.body[self.root.begin : self.root.inner]
        found = re.match(rb"<([\w.-]+:)", start)
        self.prefix = found[1].decode() if found else ""
        self.ids: dict[str, Element] = {}
        for e in self.root.walk():
            if "id" in e.attributes:
                self.ids.setdefault(e.attributes["id"], e)

    def fail(self, what: str, where: str = "", remedy: str = "Export it again.") -> FileError:
        """An error about this file."""
        return FileError(self.file, what, where, remedy)

    def _parse(self) -> Element:
        parser = expat.ParserCreate()
        top = Element("", {}, 0)
        stack = [top]

        def start(name: str, attributes: dict[str, str]) -> None:
            if len(stack) > MOST_DEPTH:
                raise self.fail(f"its elements are nested more than {MOST_DEPTH} deep", f"line {parser.CurrentLineNumber}")
            begin = parser.CurrentByteIndex
            e = Element(name.rpartition(":")[2], attributes, begin)
            found = _TAG_END.match(self.body, begin)
            e.inner = found.end() if found else begin
            stack[-1].children.append(e)
            stack.append(e)

        def end(_name: str) -> None:
            e = stack.pop()
            if self.body[e.inner - 2 : e.inner] == b"/>":
                e.close = e.end = e.inner
                return
            e.close = parser.CurrentByteIndex
            e.end = self.body.index(b">", e.close) + 1

        def doctype(*_: object) -> None:
            raise self.fail("it has a document type of its own, which COLLADA does not need", "", "Export it again without a DOCTYPE.")

        parser.StartElementHandler, parser.EndElementHandler, parser.StartDoctypeDeclHandler = start, end, doctype
        try:
            parser.Parse(self.body, True)
        except expat.ExpatError as e:
            raise self.fail(f"it is not whole XML ({expat.ErrorString(e.code)})", f"line {e.lineno}", "Copy the file again.") from e
        return top.children[0]

    def text(self, e: Element | None) -> str:
        """The text of an element without children."""
        if e is None:
            return ""
        raw = self.body[e.inner : e.close].decode("utf-8", "replace").strip()
        if raw.startswith("<![CDATA[") and raw.endswith("]]>"):
            return raw[9:-3].strip()
        return unescape(raw, {"&quot;": '"', "&apos;": "'"})

    def numbers(self, e: Element | None, kind: type = float) -> NDArray[Any]:
        """The numbers in an element.

        Raises
        ------
        FileError : something else stands among them
        """
        if e is None:
            return np.zeros(0, np.float64 if kind is float else np.int64)
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("error", DeprecationWarning)  # that is how numpy says that it stopped early
                return np.fromstring(self.body[e.inner : e.close].decode("ascii"), np.float64 if kind is float else np.int64, sep=" ")
        except (ValueError, DeprecationWarning, OverflowError, UnicodeDecodeError) as error:
            raise self.fail(f"<{e.tag}> holds something that is no number", self.where(e)) from error

    def where(self, e: Element) -> str:
        """The line that an element begins in, in words."""
        line = self.body.count(b"\n", 0, e.begin) + 1
        return f"line {line}"

    def target(self, url: str) -> Element | None:
        """What a local reference means."""
        return self.ids.get(url[1:]) if url.startswith("#") else None

    def patched(self, patches: Sequence[tuple[int, int, str]]) -> bytes:
        """The document with ranges of bytes replaced; of patches at one place the order stays."""
        out, at = [], 0
        for begin, end, text in sorted(patches, key=lambda p: (p[0], p[1])):
            out += [self.body[at:begin], text.encode()]
            at = max(at, end)
        return b"".join([*out, self.body[at:]])


def _as_utf8(body: bytes) -> bytes:
    """A document in UTF-8. Encodings of two bytes a sign and others are translated, with what the first line says of them."""
    head = body[:200]
    if head[:2] in (b"\xff\xfe", b"\xfe\xff"):
        text = body.decode("utf-16", "replace")
    else:
        found = re.match(rb"""\s*<\?xml[^>]*encoding\s*=\s*["']([\w.-]+)["']""", head.removeprefix(b"\xef\xbb\xbf"))
        name = found[1].decode().lower() if found else "utf-8"
        if name in ("utf-8", "utf8", "us-ascii", "ascii"):
            return body
        try:
            text = body.decode(name)
        except (LookupError, UnicodeDecodeError):
            return body
    return re.sub(r"""(<\?xml[^>]*encoding\s*=\s*["'])[\w.-]+""", r"\g<1>utf-8", text, count=1).encode()
