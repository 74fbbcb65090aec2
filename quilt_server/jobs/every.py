"""All kinds of work that the worker does: those of a project's own, and those that are made of them."""

from __future__ import annotations

from ..jobfile.kinds import KINDS
from .kinds import ALL

EVERY = ALL | {k.name: k for k in KINDS}
