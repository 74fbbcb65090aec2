"""What an older version of the program made, made anew by this one: before anybody works with it."""

from __future__ import annotations

import logging

from quilt_core.errors import QuiltError

from .measuring import VERSION, measure
from .models import Layout, Project, Snapshot
from .opened import arrays_of
from .reading import choose, parts_of
from .state import settings_of

log = logging.getLogger("quilt")


def refresh() -> None:
    """Measure the layouts that projects show, and their kept tries, where another version did it last."""
    for project in Project.objects.filter(deleted=None, head__layout__isnull=False).exclude(head__layout__measured=VERSION):
        try:
            assert project.head is not None
            _measure_again(project.head)
        except (QuiltError, OSError, KeyError):
            # One project that cannot be read must not keep the others from starting; it says so when it is worked on.
            log.exception("a layout could not be measured anew")


def _measure_again(head: Snapshot) -> None:
    layout = head.layout
    assert layout is not None
    parts = parts_of(choose(head, whole=True))
    measure(layout, parts, parts.whole(arrays_of(layout, "transforms")), settings_of(head))
    Layout.objects.filter(pk=layout.pk).update(
        figures=layout.figures, findings=layout.findings, pieces=layout.pieces, measured=layout.measured, picture=layout.picture
    )
