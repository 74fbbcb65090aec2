"""UDIM tiles: their numbers, the grid of a sheet, and each tile's own resolution.

Tile number = 1001 + column + 10 x row, columns 0 to 9, rows upward from 0 (common practice; so numbered by MaterialX and OpenUSD too).
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from .scene import Floats

COLUMNS, ROWS = 10, 100


def number(column: int, row: int) -> int:
    """UDIM number of a tile.

    Raises
    ------
    ValueError : a column or row that UDIM does not have
    """
    if not (0 <= column < COLUMNS and 0 <= row < ROWS):
        raise ValueError(f"UDIM has no tile in column {column}, row {row}")
    return 1001 + column + 10 * row


def numbers_at(corner: Floats) -> NDArray[np.int64]:
    """UDIM numbers (n,) of tiles by their lower left corners (n, 2), 0 for NaN (what has no area lies nowhere); of no meaning where UDIM has none, see
    `Grid.holds`."""
    number = 1001 + corner[:, 0] + 10 * corner[:, 1]
    return np.where(np.isnan(number), 0.0, number).astype(np.int64)


def column_row(tile: int) -> tuple[int, int]:
    """Column and row of a tile.

    Raises
    ------
    ValueError : no UDIM number
    """
    if not 1001 <= tile <= number(COLUMNS - 1, ROWS - 1):
        raise ValueError(f"{tile} is no UDIM number: they are 1001 to {number(COLUMNS - 1, ROWS - 1)}")
    return (tile - 1001) % 10, (tile - 1001) // 10


def listed(text: str, most: int = 100) -> list[int]:
    """The tiles that a text names: "1001-1004, 1011"; a range takes every number between its ends.

    Raises
    ------
    ValueError : what is no tile, or more than `most`
    """
    out: list[int] = []
    for part in (p.strip() for p in text.split(",") if p.strip()):
        first, _, last = (x.strip() for x in part.partition("-"))
        if not first.isdecimal() or (last and not last.isdecimal()):
            raise ValueError(f"'{part}' names no tiles: write 1001 or 1001-1004")
        low, high = int(first), int(last or first)
        column_row(low), column_row(high)
        if high < low or high - low >= most or len(out) > most:
            raise ValueError(f"'{part}' is no range of up to {most} tiles")
        out += range(low, high + 1)
    return sorted(set(out))


def corners_of(box: Floats) -> Floats:
    """Lower left corner (n, 2) of the tile that the middle of each box (n, 4) lies in."""
    return np.floor(0.5 * (box[:, :2] + box[:, 2:]))


@dataclass(frozen=True)
class Grid:
    """The tiles of a sheet: `columns` x `rows` from 1001, of `px` each but where `tile_px` (UDIM number to px) says otherwise."""

    px: int
    columns: int = 1
    rows: int = 1
    tile_px: dict[int, int] = field(default_factory=dict)

    @property
    def numbers(self) -> list[int]:
        """UDIM numbers, row by row."""
        return [number(c, r) for r in range(self.rows) for c in range(self.columns)]

    @property
    def sizes(self) -> tuple[int, ...]:
        """px of every tile, row by row."""
        return tuple(self.tile_px.get(n, self.px) for n in self.numbers)

    def px_at(self, points: Floats) -> Floats:
        """Resolution (n,) of the tile that each point (n, 2) lies in; `px` outside the grid."""
        out = np.full(len(points), float(self.px))
        if self.tile_px:
            with np.errstate(invalid="ignore"):
                tile = np.nan_to_num(np.floor(points), nan=-1.0).astype(np.int64)
            for n, px in self.tile_px.items():
                column, row = column_row(n)
                out[(tile[:, 0] == column) & (tile[:, 1] == row)] = px
        return out

    def px_of(self, box: Floats) -> Floats:
        """Resolution (n,) of the tile that the middle of each box (n, 4) lies in."""
        return self.px_at(0.5 * (box[:, :2] + box[:, 2:]))

    def holds(self, corner: Floats) -> NDArray[np.bool_]:
        """Whether tiles with these lower left corners (n, 2) belong to the grid."""
        return np.asarray((corner >= 0).all(axis=1) & (corner[:, 0] < self.columns) & (corner[:, 1] < self.rows))
