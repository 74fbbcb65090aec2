"""JSON that came in: anything that cannot be kept is refused in words, before anybody works with it."""

from __future__ import annotations

import json
import re
from typing import Any

from django.http import HttpRequest
from ninja.parser import Parser

from quilt_core.errors import QuiltError
from quilt_core.words import cut

# Control characters but line ends and tabs, and halves of signs, which no text can hold.
_UNKEPT = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\ud800-\udfff]")


class StrictParser(Parser):
    """Reads the bodies of requests."""

    def parse_body(self, request: HttpRequest) -> Any:
        """A body as JSON.

        Raises
        ------
        QuiltError : it is no JSON, nested too deep, or a text in it holds signs that cannot be kept
        """
        try:
            value = json.loads(request.body)
            _check(value)
        except (ValueError, RecursionError) as e:
            raise QuiltError("What was sent cannot be read. Load the page again.") from e
        return value


def _check(value: Any) -> None:
    if isinstance(value, str):
        if _UNKEPT.search(value):
            raise QuiltError(f"'{cut(value, 60)}' holds signs that a name or text cannot have. Type it anew.")
    elif isinstance(value, dict):
        for k, v in value.items():
            _check(k)
            _check(v)
    elif isinstance(value, list):
        for v in value:
            _check(v)
