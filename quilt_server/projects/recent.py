"""What was made of snapshots, kept for the last few: they never change, and every page asks for it again and again."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Generic, TypeVar

from django.db.models.fields.json import KT

from .cache import Cache
from .models import Layout, Snapshot

T = TypeVar("T")


class Recent(Generic[T]):
    """Makes something of a snapshot, once for each of the last that are saved, `room` of them by `size`. `proofs`: what is proven of its layout later is part of
    it."""

    def __init__(self, room: int, make: Callable[[Snapshot], T], size: Callable[[T], int] = lambda _: 1, proofs: bool = False) -> None:
        self.make, self.proofs = make, proofs
        self.kept: Cache[T] = Cache(room, size)

    def __call__(self, snapshot: Snapshot) -> T:
        """What is made of a snapshot."""
        key = self._key(snapshot)
        if (known := self.kept.get(key)) is not None:
            return known
        found = self.make(snapshot)
        return self.kept.keep(key, found) if snapshot.pk else found

    def keep(self, snapshot: Snapshot, made: T) -> None:
        """What was made of a snapshot before it was saved."""
        self.kept.keep(self._key(snapshot), made)

    def _key(self, snapshot: Snapshot) -> tuple[Any, ...]:
        """What a snapshot is known by. It changes only with what a newer program measures of its layout, and with what is proven of that. Numbers of rows come
        again in the databases of tests, so the moment counts too."""
        if not self.proofs:
            layout = (snapshot.layout.measured,) if snapshot.layout else None
        elif snapshot.layout_id:
            # Asked for, since a layout with all its islands is far larger than this.
            layout = Layout.objects.filter(pk=snapshot.layout_id).values_list("measured", KT("figures__bleed")).first()
        else:
            layout = None
        return snapshot.pk, snapshot.created, layout
