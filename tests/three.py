"""A page in Chromium that has three.js from the front end's own packages, and no network."""

from __future__ import annotations

import mimetypes
from pathlib import Path

from playwright.sync_api import Page, Route

WEB = Path(__file__).resolve().parents[1] / "web"
HTML = """<script type="importmap">{"imports": {"three": "/three/build/three.module.js", "three/addons/": "/three/examples/jsm/"}}</script><body></body>"""


def _serve(route: Route) -> None:
    name = route.request.url.split("/", 3)[3]
    if not name.startswith("three/"):
        route.fulfill(body=HTML, content_type="text/html")
        return
    file = WEB / "node_modules" / name.split("?")[0]
    route.fulfill(body=file.read_bytes(), content_type=mimetypes.guess_type(file.name)[0] or "text/javascript")


def with_three(page: Page) -> Page:
    """The page, where scripts may import three.js."""
    page.route("**/*", _serve)
    page.goto("http://three.local/")
    return page
