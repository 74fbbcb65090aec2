"""Colours: between linear light and what pictures store, and those that tell numbers apart."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

# Dyed cloth, far apart in lightness as well as in hue. Ours.
CLOTH = ("#3d5a98", "#b1483c", "#c79a1e", "#6b4a36", "#5f7a3a", "#4a93a8", "#b8647f", "#a9652b", "#66707c", "#7a5591", "#2f7f68", "#8a8544")


def number_colour(n: int) -> tuple[float, float, float]:
    """A colour (0 to 1) for a number: the cloths first, then hues that stay apart (steps of the golden ratio around the circle)."""
    if n < len(CLOTH):
        return tuple(int(CLOTH[n][k : k + 2], 16) / 255 for k in (1, 3, 5))  # type: ignore[return-value]
    hue = (n * 0.6180339887) % 1.0
    value = (0.55, 0.75, 0.95)[n % 3]
    r, g, b = (abs(((hue + shift) % 1.0) * 6 - 3) - 1 for shift in (0.0, 2 / 3, 1 / 3))
    return tuple(value * (0.35 + 0.65 * min(1.0, max(0.0, c))) for c in (r, g, b))  # type: ignore[return-value]


def to_linear(stored: NDArray[Any]) -> NDArray[Any]:
    """sRGB values 0 to 1 to linear light (IEC 61966-2-1), in the precision that they come in."""
    out = np.where(stored <= 0.04045, stored / 12.92, ((np.maximum(stored, 0) + 0.055) / 1.055) ** 2.4)
    return out.astype(stored.dtype, copy=False)


def to_srgb(linear: NDArray[Any]) -> NDArray[Any]:
    """Linear light 0 to 1 to sRGB values (IEC 61966-2-1), in the precision that it comes in."""
    return _curve(np.clip(linear, 0.0, 1.0)).astype(linear.dtype, copy=False)


def _curve(x: NDArray[Any]) -> NDArray[Any]:
    return np.where(x <= 0.0031308, x * 12.92, 1.055 * x ** (1 / 2.4) - 0.055)


def linear_of(stored: Sequence[float] | NDArray[np.floating[Any]]) -> tuple[float, float, float]:
    """A colour that a material holds in sRGB, 0 to 1, as linear light; what lies beyond is cut off."""
    r, g, b = (float(x) for x in to_linear(np.clip(np.asarray(stored, float), 0.0, 1.0)))
    return r, g, b


def stored_of(linear: Sequence[float]) -> tuple[float, float, float]:
    """A colour of linear light as a material holds it in sRGB. Light above 1, of what shines, goes on along the same curve, as readers take it back."""
    r, g, b = (float(x) for x in _curve(np.maximum(np.asarray(linear, float), 0.0)))
    return r, g, b
