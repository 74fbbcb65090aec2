"""The packer: regions in, one similarity per island out. See `docs/packing.md`."""

from .driver import pack
from .recipe import Packing, PackResult, Recipe, Rules

__all__ = ["PackResult", "Packing", "Recipe", "Rules", "pack"]
