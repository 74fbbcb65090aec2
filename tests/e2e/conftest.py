"""The application and the browser that the tests of a file share."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, sync_playwright

from tests.hostile.running import running
from tests.kit.chromium import launched


@contextlib.contextmanager
def demo(folder: Path) -> Iterator[str]:
    """The application as `./quilt demo` starts it; its address. It ends by itself when it is asked to."""
    with running(folder, command="demo") as r:
        yield r.url
    assert r.process.returncode == 0


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
