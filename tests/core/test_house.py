"""The house as `docs/architecture.md` tells it: no circles of imports, and what is found by standing in its folder."""

from __future__ import annotations

import grimp
import numpy as np
import pytest
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from quilt_core import formats
from quilt_core.faults import kinds
from quilt_core.faults.listing import KINDS
from quilt_core.formats.registry import FORMATS


@pytest.mark.parametrize("package", ["quilt_core", "quilt_server", "quilt_cli"])
def test_no_module_imports_itself_through_others(package: str) -> None:
    graph = grimp.build_graph(package, exclude_type_checking_imports=False)
    number = {m: n for n, m in enumerate(sorted(graph.modules))}
    arrows = np.array([(number[m], number[n]) for m in number for n in graph.find_modules_directly_imported_by(m)])
    matrix = coo_array((np.ones(len(arrows)), arrows.T), (len(number), len(number)))
    _, of = connected_components(matrix, connection="strong")
    circles = [[m for m, n in number.items() if of[n] == k] for k, size in enumerate(np.bincount(of)) if size > 1]
    assert circles == []


def test_every_format_has_all_that_is_asked_of_it() -> None:
    for f in FORMATS:
        parts = (
            [f.read, f.write, f.revise, f.rewire, f.normals] + ([] if f.one_channel else [f.rearrange]) + ([f.export] if f.exports else [])
        )
        assert all(callable(p) for p in parts), f.name
    endings = [e for f in FORMATS for e in f.endings]
    assert len(endings) == len(set(endings)) and all(formats.is_mesh(f"a{e}") for e in endings)


def test_every_kind_of_fault_says_what_it_is() -> None:
    assert len(KINDS) > 15
    for name in KINDS:
        module = __import__(f"{kinds.__name__}.{name}", fromlist=["found"])
        assert module.__doc__ and len(module.__doc__) > 20
