"""Proof of a layout on its own terms: measured on the polygons, whoever made it."""
