"""The packer: regions in, one similarity per island out. See `docs/packing.md`."""

from .driver import PackResult, Packing, Recipe, pack

__all__ = ["PackResult", "Packing", "Recipe", "pack"]
