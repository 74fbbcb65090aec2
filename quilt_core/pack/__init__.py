"""The packer: regions in, one similarity per island out. See `docs/packing.md`."""

from .driver import Packing, PackResult, Recipe, pack

__all__ = ["PackResult", "Packing", "Recipe", "pack"]
