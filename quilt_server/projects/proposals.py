"""Proposals: states that could follow the project's head, to look at before one is taken. No step leads to them, and the next step forgets them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from django.db import transaction

from quilt_core.errors import QuiltError

from .models import Layout, Project, Snapshot
from .state import following


def propose(project: Project, head: Snapshot, layout: Layout, label: str, **changes: Any) -> Snapshot:
    """Keep a state that could follow the head.

    Raises
    ------
    QuiltError : the project moved on meanwhile
    """
    with transaction.atomic():
        if Project.objects.get(pk=project.pk).head_id != head.pk:
            raise QuiltError("The project changed meanwhile. Nothing was done: do it again.")
        layout.save()
        snapshot = following(project, label, head, layout, **changes)
        snapshot.parent, snapshot.proposal = head, True
        snapshot.save()
        return snapshot


def proposal_of(project: Project, number: int) -> Snapshot:
    """A proposal of a project that can still be taken.

    Raises
    ------
    QuiltError : there is none of that number, or the project moved on
    """
    found = Snapshot.objects.filter(project=project, pk=number, proposal=True, parent_id=project.head_id).first()
    if found is None:
        raise QuiltError("This proposal is not there any more: the project moved on. Ask for proposals again.")
    return found


def take(project: Project, chosen: Snapshot) -> None:
    """Make a proposal the project's next step, and forget the others."""
    chosen.proposal = False
    chosen.save(update_fields=["proposal"])
    project.head = chosen
    project.save(update_fields=["head", "modified"])
    forget_proposals(project)


def forget_proposals(project: Project) -> None:
    """Drop all proposals of a project."""
    drop(list(Snapshot.objects.filter(project=project, proposal=True).values_list("pk", flat=True)))


def drop(numbers: Sequence[int]) -> None:
    """Drop some proposals, with layouts that nothing else shows or keeps."""
    gone = Snapshot.objects.filter(pk__in=numbers, proposal=True)
    layouts, projects = set(gone.values_list("layout_id", flat=True)), set(gone.values_list("project_id", flat=True))
    layouts |= {int(k) for kept in gone.values_list("kept", flat=True) for k in kept.values()}
    if not layouts:
        return
    gone.delete()
    stay = Snapshot.objects.filter(project__in=projects)
    shown = set(stay.values_list("layout_id", flat=True)) | {int(k) for kept in stay.values_list("kept", flat=True) for k in kept.values()}
    Layout.objects.filter(pk__in=layouts - shown).delete()
