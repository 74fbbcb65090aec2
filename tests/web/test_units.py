"""The front end's own units, run by its test runner; what it says is the message of this test."""

from __future__ import annotations

import subprocess
from pathlib import Path

WEB = Path(__file__).resolve().parents[2] / "web"


def test_the_front_ends_units() -> None:
    run = subprocess.run(["npx", "vitest", "run", "--no-color"], cwd=WEB, capture_output=True, text=True, timeout=300, check=False)
    assert run.returncode == 0, run.stdout + run.stderr
    assert "passed" in run.stdout
