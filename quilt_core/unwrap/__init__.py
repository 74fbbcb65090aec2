"""New UVs for a surface: where it is cut, and how each piece is laid flat without folds or overlaps. See `docs/mending.md`."""
