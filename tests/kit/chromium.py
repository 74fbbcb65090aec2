"""Debian's Chromium as the tests start it: without a graphics card, a sandbox, or anything that asks the network."""

from __future__ import annotations

import shutil

from playwright.sync_api import Browser, Playwright

ARGS = ["--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-gpu", "--disable-background-networking",
        "--disable-component-update", "--disable-sync", "--no-first-run", "--disable-quic"]  # fmt: skip


def launched(p: Playwright) -> Browser:
    """A browser of one's own."""
    program = shutil.which("chromium")
    assert program, "Debian's chromium is needed: ./quilt test installs it"
    return p.chromium.launch(executable_path=program, args=ARGS)
