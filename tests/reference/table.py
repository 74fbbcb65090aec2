"""The list of checks against something outside the project, made from the tests' own marks: `python -m tests.reference.table` writes it into the README.

A check is marked `@pytest.mark.reference(what, source)`. The marks are read from the text of the tests, so that the list needs none of them to run.
"""

from __future__ import annotations

import ast
from pathlib import Path

TESTS = Path(__file__).resolve().parents[1]
README = Path(__file__).with_name("README.md")
HEAD = """# Checks against something outside the project

Every test below judges the program by a published standard, by arithmetic, by another library, or by a habit of the trade (which has no source).
The list is made from the marks at the tests: `python -m tests.reference.table` writes it, and a test says when it is old.

| What is checked | Against | Test |
|---|---|---|
"""


def marks() -> list[tuple[str, str, str]]:
    """What, source and place of every marked test, sorted by what is checked."""
    out = []
    for file in sorted(TESTS.rglob("test_*.py")):
        for node in ast.parse(file.read_text()).body:
            for mark in getattr(node, "decorator_list", ()):
                if isinstance(mark, ast.Call) and ast.unparse(mark.func) == "pytest.mark.reference":
                    what, source = (ast.literal_eval(a) for a in mark.args)
                    out.append((what, source, f"{file.relative_to(TESTS)}::{node.name}"))  # type: ignore[attr-defined]
    return sorted(out)


def table() -> str:
    """The text of the README."""
    return HEAD + "".join(f"| {what} | {source} | `{place}` |\n" for what, source, place in marks())


if __name__ == "__main__":
    README.write_text(table())
