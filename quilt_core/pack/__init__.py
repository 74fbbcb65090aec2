"""The packer: regions in, one similarity per island out. See `docs/packing.md`."""

from .driver import pack
from .explain import Explanation, Hint, explain
from .recipe import Packing, PackResult, Recipe, Rules, Start

__all__ = ["Explanation", "Hint", "PackResult", "Packing", "Recipe", "Rules", "Start", "explain", "pack"]
