"""Islands with more texture than the band around the target allows."""

from __future__ import annotations

from ..density import off_band
from ..fault import Fault, Limits
from ..findings import Findings


def found(f: Findings, limits: Limits) -> Fault | None:
    return off_band(f, limits, 1)
