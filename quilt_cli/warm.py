"""Compiles all kernels once, so that no user waits for it: `python -m quilt_cli.warm`."""

from __future__ import annotations

from demo.quay import small_set
from quilt_core import formats, report
from quilt_core.arrange import pack_sheet
from quilt_core.pack import Recipe


def main() -> None:
    """Read and pack the small demo set, far enough to reach the search after the greedy passes."""
    name, data = next(iter(small_set().items()))
    pieces = report.pieces_of(report.analyse_all([formats.read(data, name)], 0))
    pack_sheet(pieces, Recipe(map_px=512, padding_px=2, margin_px=1, passes=26))


if __name__ == "__main__":
    main()
