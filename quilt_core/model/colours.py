"""Colours that tell numbers apart in a picture."""

from __future__ import annotations

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
