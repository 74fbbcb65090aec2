"""Numbers in words for people."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable

# Control characters, and halves of signs, which no text can hold: nothing that a page, a terminal or a disk can show.
UNSHOWN = re.compile("[\x00-\x1f\x7f-\x9f\ud800-\udfff]")


def counted(n: int, one: str, more: str) -> str:
    """A count with its words: `one` where it is 1, `more` for several."""
    return f"{n:,} {one if n == 1 else more}"


def named(names: Iterable[str], most: int = 4) -> str:
    """Names in quotes, each once, the first few of many.

    Examples
    --------
    >>> named(["red", "blue", "red"]), named("abcdef", 2)
    ("'red', 'blue'", "'a', 'b' and 4 more")
    """
    each = list(dict.fromkeys(names))
    return ", ".join(f"'{n}'" for n in each[:most]) + (f" and {len(each) - most} more" if len(each) > most else "")


def plain(x: float, digits: int = 4) -> str:
    """A number with so many significant digits, thousands grouped, never in powers of ten: 15,900 and 0.0123.

    Examples
    --------
    >>> plain(15899.7), plain(0.0123456, 3), plain(2.0)
    ('15,900', '0.0123', '2')
    """
    if x == 0 or not math.isfinite(x):
        return f"{x:g}"
    rounded = float(f"{x:.{digits}g}")
    places = max(0, digits - 1 - math.floor(math.log10(abs(rounded))))
    text = f"{rounded:,.{places}f}"
    return text.rstrip("0").rstrip(".") if "." in text else text


def cut(text: str, most: int = 60) -> str:
    """A text from outside as it can be shown: no longer than that, and without signs that no page or terminal can show.

    Examples
    --------
    >>> cut("a\\x1b[31mb\\ud800", 20), cut("x" * 9, 4)
    ('a?[31mb?', 'xxxx...')
    """
    return UNSHOWN.sub("?", text[:most]) + ("..." if len(text) > most else "")
