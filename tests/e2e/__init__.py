"""The real interface in Chromium: real clicks on a real server."""

AROUND = 1.06  # the table's room around the tiles when it shows all of them, over the tiles' width
