"""The real interface in Chromium: real clicks on a real server."""

from playwright.sync_api import FloatRect, expect

expect.set_options(timeout=20_000)  # ms: what is waited for comes late on a machine whose two cores are busy


def tile_px(box: FloatRect) -> float:
    """How wide the table shows the tile of a sheet of one: it leaves a sixteenth beside it, and 20 px above and below for words."""
    return min(box["width"] / 1.06, max(box["height"] - 40, box["height"] / 2))
