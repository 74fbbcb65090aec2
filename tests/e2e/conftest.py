"""The application and the browser that the tests of a file share."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, sync_playwright

from tests.kit.chromium import launched
from tests.kit.processes import ROOT, free_port


@contextlib.contextmanager
def demo(folder: Path) -> Iterator[str]:
    """The application as `./quilt demo` starts it, on a free port; its address."""
    port = free_port()
    command = [sys.executable, "-m", "quilt_cli", "demo", "--port", str(port), "--data", str(folder)]
    process = subprocess.Popen(command, cwd=ROOT, env={**os.environ, "PYTHONPATH": str(ROOT)})
    url = f"http://localhost:{port}"
    for _ in range(600):
        try:
            urllib.request.urlopen(url + "/api/projects").close()
            break
        except OSError:
            time.sleep(0.2)
            assert process.poll() is None, "the application ended while it started"
    yield url
    process.send_signal(signal.SIGTERM)
    assert process.wait(20) == 0


@pytest.fixture(scope="session")
def demo_data(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder into which the demo was loaded: that takes a while, so it is done once."""
    folder = tmp_path_factory.mktemp("demo") / "data"
    with demo(folder):
        return folder


@pytest.fixture(scope="module")
def address(demo_data: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The application with the demo, and a data folder of its own."""
    folder = tmp_path_factory.mktemp("kept") / "data"
    shutil.copytree(demo_data, folder)
    with demo(folder) as url:
        yield url


@pytest.fixture(scope="module")
def chromium() -> Iterator[Browser]:
    with sync_playwright() as p:
        browser = launched(p)
        yield browser
        browser.close()


@pytest.fixture
def page(chromium: Browser) -> Iterator[Page]:
    context = chromium.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
    page = context.new_page()
    errors: list[str] = []
    page.on("pageerror", lambda e: errors.append(str(e)))
    yield page
    context.close()
    assert not errors
