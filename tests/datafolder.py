"""Gives a test run a data folder of its own, before anything reads the settings: a test may sweep it, and must never meet that of somebody's projects.

Loaded by `-p` (see pyproject.toml), since pytest-django reads the settings before any conftest."""

from __future__ import annotations

import os
import tempfile

os.environ["QUILT_DATA"] = tempfile.mkdtemp(prefix="quilt-test-")
