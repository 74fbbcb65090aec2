"""The list of reference checks is the one that the tests' marks give, and names what the design says must be checked."""

from __future__ import annotations

from .table import README, marks, table

MUST = (
    "UDIM", "origin of v", "accessors", "Tangents", "Density", "Padding on the usual map sizes", "floor(log2 p)", "90 degrees", "Large islands first",
    "filled to its border", "20 files", "Mirrored", "normal map", "sRGB", "MikkTSpace", "Mip chain", "Stretch", "primvars", "Materials of glTF",
)  # fmt: skip


def test_the_list_in_the_readme_is_the_present_one() -> None:
    assert README.read_text() == table(), "write it again: python -m tests.reference.table"


def test_every_fact_of_the_design_has_its_check() -> None:
    found = "\n".join(what for what, _, _ in marks())
    assert [m for m in MUST if m.lower() not in found.lower()] == []
    assert all(source for _, source, _ in marks())
