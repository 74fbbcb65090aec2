"""What all tests share. The data folder of a test run is its own (see `datafolder`); real files come from `real_files`."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "quilt_server.settings")
os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"  # the browser driver runs an event loop in the test's thread


def pytest_configure() -> None:
    """Refuse to run on a data folder that may be somebody's."""
    from django.conf import settings

    if Path(settings.DATA_DIR) != Path(os.environ["QUILT_DATA"]) or not Path(settings.DATA_DIR).name.startswith("quilt-test-"):
        pytest.exit(f"The tests would run on {settings.DATA_DIR}, which is not theirs. Start them with ./quilt test.", 3)
