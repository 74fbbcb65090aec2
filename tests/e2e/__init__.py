"""The real interface in Chromium: real clicks on a real server."""

from playwright.sync_api import expect

expect.set_options(timeout=20_000)  # ms: what is waited for comes late on a machine whose two cores are busy

AROUND = 1.06  # the table's room around the tiles when it shows all of them, over the tiles' width
