"""JSON that came in: anything that cannot be kept is refused in words, before anybody works with it."""

from __future__ import annotations

import json
import math
from typing import Any

from django.http import HttpRequest
from ninja.parser import Parser

from quilt_core.errors import QuiltError
from quilt_core.words import UNSHOWN, cut

LAYING = str.maketrans("", "", "\t\n\r")  # what lays out a text that is typed


class StrictParser(Parser):
    """Reads the bodies of requests."""

    def parse_body(self, request: HttpRequest) -> Any:
        """A body as JSON.

        Raises
        ------
        QuiltError : it is no JSON, nested too deep, or a text in it holds signs that cannot be kept
        """
        try:
            value = json.loads(request.body, parse_constant=_no_number)
            _check(value)
        except (ValueError, RecursionError) as e:
            raise QuiltError("What was sent cannot be read. Load the page again.") from e
        return value


def _no_number(name: str) -> Any:
    raise ValueError(f"{name} is no number")


def _check(value: Any) -> None:
    if isinstance(value, str):
        if UNSHOWN.search(value.translate(LAYING)):
            raise QuiltError(f"'{cut(value, 60)}' holds signs that a name or text cannot have. Type it anew.")
    elif isinstance(value, dict):
        for k, v in value.items():
            _check(k)
            _check(v)
    elif isinstance(value, list):
        for v in value:
            _check(v)
    elif isinstance(value, float) and not math.isfinite(value):  # 1e999
        raise ValueError("a number without end")
