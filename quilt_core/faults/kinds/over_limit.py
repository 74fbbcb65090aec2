"""Islands with more texture than a team's greatest density."""

from __future__ import annotations

from ..density import off_limit
from ..fault import Fault, Limits
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault | None:
    return off_limit(f, limits, 1)
