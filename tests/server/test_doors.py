"""What a hostile page, name or request meets at the door."""

from __future__ import annotations

import csv
import io
import json

import pytest
from django.test import Client

from tests.shapes import PLANE

from .test_api import Browser
from .test_namesakes import bring

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def browser() -> Browser:
    return Browser()


@pytest.mark.parametrize("path", ["/", "/projects/1", "/mark.svg", "/api/formats", "/api/projects/99", "/api/nothing", "/assets/gone.js"])
def test_every_answer_says_whom_it_is_for(path: str) -> None:
    answer = Client().get(path)
    policy = answer["Content-Security-Policy"]
    assert "script-src 'self'" in policy and "unsafe-eval" not in policy and "frame-ancestors 'none'" in policy
    assert "'unsafe-inline'" not in policy.split("script-src")[1].split(";")[0]
    assert answer["X-Frame-Options"] == "DENY" and answer["X-Content-Type-Options"] == "nosniff"
    assert "Access-Control-Allow-Origin" not in answer


@pytest.mark.parametrize("path", ["/", "/mark.svg", "/api/formats", "/projects/1"])
def test_a_foreign_host_gets_nothing(path: str) -> None:
    answer = Client().get(path, headers={"host": "evil.test"})
    assert answer.status_code == 400 and "not one that the application" in answer.json()["detail"]
    assert answer["X-Frame-Options"] == "DENY"


def test_cells_that_begin_like_formulas_are_texts(browser: Browser) -> None:
    for n, name in enumerate(("=1+1", "+cmd", "-2", "@a", "fine")):
        bring(browser, (f"{n}.obj", PLANE.replace(b"o plane", b"o " + name.encode())))
    answer = browser.client.get(f"/api/projects/{browser.project}/density.csv")
    rows = list(csv.DictReader(io.StringIO(answer.content.decode())))
    assert {r["object"] for r in rows} == {"'=1+1", "'+cmd", "'-2", "'@a", "fine"}
    assert all(float(r["px_per_m"]) > 0 for r in rows), "numbers stay numbers"


@pytest.mark.parametrize("name", ["a\x00b", "a\x1b[31m", "\ud800", "a\x7f"])
def test_names_that_cannot_be_kept_are_refused_in_words(browser: Browser, name: str) -> None:
    refused = browser.post("/api/projects", {"name": name}, 422)
    assert "signs that a name or text cannot have" in refused["detail"]
    answer = browser.client.patch(f"/api/projects/{browser.project}", json.dumps({"name": name}), content_type="application/json")
    assert answer.status_code == 422
    browser.upload(plane__obj=PLANE)
    state = browser.state()
    body = {"base": state["snapshot"], "settings": {**state["settings"], "recipes": {name: {}}}}
    browser.post(f"/api/projects/{browser.project}/change", body, 422)


@pytest.mark.parametrize("body", [b"", b"{", b"[" * 200_000, b'{"name": ' + b"1" * 5_000 + b"}", b"\xff\xfe", b'{"name": [1]}', b"null"])
def test_bodies_that_are_no_json_are_refused_in_words(body: bytes) -> None:
    answer = Client(headers={"X-Quilt": "1"}).post("/api/projects", body, content_type="application/json")
    assert answer.status_code == 422 and answer.json()["detail"]


@pytest.mark.parametrize("path", ["../a.obj", "/etc/a.obj", "a\x00.obj", "a\x1b.obj", "", "x" * 500 + ".obj"])
def test_paths_that_cannot_be_taken(browser: Browser, path: str) -> None:
    from django.core.files.uploadedfile import SimpleUploadedFile

    data = {"files": [SimpleUploadedFile("a.obj", PLANE)], "paths": [path]}
    answer = browser.client.post(f"/api/projects/{browser.project}/files", data)
    assert answer.status_code == 422 and answer.json()["detail"]


def test_a_misspelt_parameter_is_refused_with_the_nearest_that_there_is() -> None:
    """ "strech": 1.02 vanished, and everything was unwrapped at 1.25."""
    from quilt_core.errors import QuiltError
    from quilt_server.jobs.kinds import ALL, checked

    for kind, params, near in (
        ("unwrap", {"strech": 1.02}, "stretch"), ("ready", {"materialborders": True}, "material_borders"), ("pack", {"sheet": [1]}, "sheets"),
        ("seams", {"operation": "cut", "edge": {}}, "edges"), ("bake", {"ray": 4}, "rays"), ("deliver", {"template": "svg"}, "templates"),
    ):  # fmt: skip
        with pytest.raises(QuiltError, match=f"Did you mean '{near}'"):
            checked(kind, params, {})
    for kind, known in ALL.items():
        if known.asked is not None:
            with pytest.raises(QuiltError):
                checked(kind, {"nothing_like_it_at_all": 1}, {})
