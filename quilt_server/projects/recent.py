"""What was made of snapshots, kept for the last few: they never change, and every page asks for it again and again."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from threading import Lock
from typing import Any, Generic, TypeVar

from django.db.models.fields.json import KT

from .models import Layout, Snapshot

T = TypeVar("T")


class Recent(Generic[T]):
    """Makes something of a snapshot, once for each of the last `most` that are saved, of which at least one is kept and no more than `room` holds by `size`;
    threads of the web process share it. `proofs`: what is proven of its layout later is part of it."""

    def __init__(
        self, most: int, make: Callable[[Snapshot], T], size: Callable[[T], int] = lambda _: 0, room: int = 0, proofs: bool = False
    ) -> None:
        self.most, self.make, self.size, self.room, self.proofs, self.lock = most, make, size, room, proofs, Lock()
        self.kept: OrderedDict[tuple[Any, ...], T] = OrderedDict()

    def __call__(self, snapshot: Snapshot) -> T:
        """What is made of a snapshot."""
        key = self._key(snapshot)
        with self.lock:
            if key in self.kept:
                self.kept.move_to_end(key)
                return self.kept[key]
        found = self.make(snapshot)
        if snapshot.pk:
            self._keep(key, found)
        return found

    def keep(self, snapshot: Snapshot, made: T) -> None:
        """What was made of a snapshot before it was saved."""
        self._keep(self._key(snapshot), made)

    def _keep(self, key: tuple[Any, ...], made: T) -> None:
        with self.lock:
            self.kept[key] = made
            while len(self.kept) > 1 and (len(self.kept) > self.most or sum(map(self.size, self.kept.values())) > self.room):
                self.kept.popitem(last=False)

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
