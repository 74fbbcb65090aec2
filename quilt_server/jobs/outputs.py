"""Where things lie in what jobs put out."""

from __future__ import annotations


def path_of(sheet: int, tile: int, kind: str) -> str:
    """Where a baked map lies in a job's output."""
    return f"{sheet}.{tile}.{kind.replace(' ', '_')}.png"
