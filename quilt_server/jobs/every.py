"""All kinds of work that the worker does: those of a project's own, and those that are made of them."""

from __future__ import annotations

from ..batches.opening import KINDS as OF_BATCHES
from ..jobfile.kinds import KINDS
from .kinds import ALL

EVERY = ALL | {k.name: k for k in (*KINDS, *OF_BATCHES)}
