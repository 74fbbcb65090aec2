"""Docs tell what is there: files, modules, functions and commands that they name exist."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

import pytest

from quilt_cli.main import COMMANDS

ROOT = Path(__file__).resolve().parents[2]
DOCS = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md")), ROOT / "tests/reference/README.md"]
TOPS = ("quilt_core", "quilt_cli", "quilt_server", "web", "demo", "bench", "tests", "docs")
# A path as it is written: with a folder of ours in front, or an ending of ours.
PATHS = re.compile(rf"(?<![\w/.])((?:{'|'.join(TOPS)})/[\w./-]*|[\w/-]+\.(?:py|tsx?|md|toml|json|lock))(?![\w*])")
MODULES = re.compile(r"\b((?:quilt_core|quilt_cli|quilt_server|demo|bench|tests)(?:\.\w+)+)")


def files() -> list[str]:
    found = subprocess.run(["git", "ls-files", "-co", "--exclude-standard"], cwd=ROOT, capture_output=True, text=True, check=True).stdout
    return found.splitlines()


def code(text: str) -> str:
    """What stands in code marks, where names are names."""
    return "\n".join(re.findall(r"`([^`\n]+)`", text)) + "\n" + "\n".join(re.findall(r"\]\(([^)]+)\)", text))


@pytest.mark.parametrize("doc", DOCS, ids=lambda p: p.relative_to(ROOT).as_posix())
def test_every_path_and_module_that_a_doc_names_is_there(doc: Path) -> None:
    known = files()
    folders = {"/".join(f.split("/")[:n]) for f in known for n in range(1, f.count("/") + 1)}
    text = code(doc.read_text())
    gone = []
    for path in {m[1].rstrip("/.") for m in PATHS.finditer(text)}:
        here = {path, (doc.parent / path).resolve().relative_to(ROOT).as_posix() if not path.startswith("..") else path}
        names_end = (
            f"{path}.py" in known
            or any(f == path or f.endswith(f"/{path}") for f in known)
            or path in folders
            or any(f.endswith(f"/{path}") for f in folders)
        )
        made = path.startswith("web/dist") or "node_modules" in path or path in MADE
        if not (names_end or here & (set(known) | folders) or made):
            gone.append(path)
    for module in {m[1] for m in MODULES.finditer(text)}:
        parts = module.split(".")
        if not any(resolves(parts[:n], parts[n:]) for n in range(len(parts), 0, -1)):
            gone.append(module)
    assert not gone, gone


# What programs write, and docs name as an example.
MADE = {
    "report.json", "run.json", "manifest.json", "project.json", "survey.json", "quay.toml", "settings.json", "recipe.json", "list.json", "openapi.json", "job.toml",
    "batch.json", "project.zip", "package-lock.json", "tokens.json",
}  # fmt: skip


def resolves(path: list[str], names: list[str]) -> bool:
    """Whether a module is there, and what is named in it."""
    at = ROOT.joinpath(*path)
    source = at.with_suffix(".py") if at.with_suffix(".py").exists() else at / "__init__.py"
    if not source.exists() and not at.is_dir():
        return False
    if not names:
        return True
    return source.exists() and re.search(rf"^\s*(?:def|class|async def)?\s*{names[0]}\b", source.read_text(), re.M) is not None


def test_modules_that_the_architecture_lists_are_there() -> None:
    """Tables of folders with the modules that they hold: `name` of each cell is a module or a folder below one of ours."""
    text = (ROOT / "docs/architecture.md").read_text()
    names = {Path(f).stem for f in files() if f.endswith((".py", ".ts", ".tsx"))} | {part for f in files() for part in f.split("/")[:-1]}
    # What a module defines, and the commands, are names too.
    for f in files():
        if f.endswith(".py") and f.startswith(("quilt_core/", "quilt_server/", "quilt_cli/")) and (ROOT / f).exists():
            names |= set(re.findall(r"^\s*(?:def|class) (\w+)", (ROOT / f).read_text(), re.M))
    names |= set(COMMANDS)
    gone = []
    for row in text.splitlines():
        if not row.startswith("| ") or row.startswith(("| folder", "| place", "|---")):
            continue
        cells = row.split("|")[2]
        for name in re.findall(r"`([a-z_]+)/?`", cells):
            if name not in names:
                gone.append(name)
    assert not gone, gone


def test_nothing_binary_lies_about() -> None:
    """Pictures are in their folder, and no package or archive is in the repository."""
    binary = (".whl", ".zip", ".gz", ".so", ".exe", ".sqlite3", ".png", ".jpg", ".pyc", ".woff2", ".woff")
    allowed = ("docs/screenshots/", "web/public/", "tests/data/")
    assert not [f for f in files() if f.endswith(binary) and not f.startswith(allowed)]


def test_docstrings_name_files_that_are_there() -> None:
    import ast

    known, gone = files(), []
    made = MADE | {"schema.json", "batch/2.json"}
    for f in known:
        if not f.endswith(".py") or not (ROOT / f).exists():
            continue
        for node in ast.walk(ast.parse((ROOT / f).read_text())):
            if isinstance(node, ast.Module | ast.FunctionDef | ast.ClassDef) and (text := ast.get_docstring(node)):
                for name in re.findall(r"[\w/]+\.(?:py|md|tsx?|json)\b", text):
                    if name not in made and not any(k == name or k.endswith(f"/{name}") for k in known):
                        gone.append((f, name))
    assert not gone, gone
