"""Rights: declared at every address, and kept for its owner, somebody who may change, somebody who may look, a stranger, and nobody."""

from __future__ import annotations

import json
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from quilt_server import signing
from quilt_server.api import api
from quilt_server.projects.asker import Right
from quilt_server.projects.models import Layout, Snapshot

from .test_namesakes import flat
from .test_team import OPEN, PASSWORD, Person, mira, paths, team, tomas  # noqa: F401  (fixtures)

pytestmark = pytest.mark.django_db(transaction=True)

# What the addresses need so that their bodies are read at all; the state that they name is never the present one.
BODIES: dict[str, Any] = {
    "thin": {"keep": 1}, "take": {"base": 0, "snapshot": 0}, "discard": {"base": 0, "layout": 0, "discarded": True}, "undo": {"base": 0}, "redo": {"base": 0},
    "plan": {"sheet": 1}, "suggest": {"sheets": [1], "by": "object"}, "belongs": {"sheet": 1, "by": "object"}, "jobs": {"kind": "pack", "base": 0, "params": {}},
    "pick": {"base": 0, "file": 0, "object": 0, "way": "loop"}, "grab": {"base": 0, "file": 0, "object": 0, "points": []},
    "sewn": {"base": 0, "file": 0, "object": 0, "edges": []}, "brush": {"base": 0, "file": 0, "object": 0, "island": 0, "token": "t", "dabs": []},
    "people": {"name": "nobody", "how": "none"},
}  # fmt: skip


def operations() -> list[tuple[str, Any]]:
    return [(f"/api/{path.lstrip('/')}", o) for _, r in api._routers for path, view in r.path_operations.items() for o in view.operations]


def test_every_address_says_which_right_it_needs() -> None:
    found = {(path, *o.methods): getattr(o.view_func, "right", None) for path, o in operations()}
    assert len(found) > 50 and not [k for k, right in found.items() if right is None]
    assert {path for (path, *_), right in found.items() if right is Right.ANYBODY} == set(signing.OPEN) == OPEN
    # What names a project, or something of one, asks for a right on it.
    of_one = {
        k: right for k, right in found.items() if any(f"{{{x}" in k[0] for x in ("project_id", "job_id", "layout_id", "file_id", "sha"))
    }
    assert set(of_one.values()) <= {Right.LOOK, Right.CHANGE, Right.OWN}
    assert not [k for k, right in of_one.items() if "GET" in k and right is not Right.LOOK], "what is fetched changes nothing"


def ask(person: Person, method: str, path: str, settings: dict[str, Any]) -> int:
    last = path.rsplit("/", 1)[-1]
    if last in ("files", "replace") and method == "POST":
        return person.ask(method, path, files={"files": SimpleUploadedFile("a.obj", b"v 0 0 0"), "paths": ["a.obj"]})[0]
    if last in ("pictures", "open", "open-job") and method == "POST":
        return person.ask(method, path, files={"file": SimpleUploadedFile("p.png", flat(1))})[0]
    body = {"settings": settings, "base": 0} if last == "change" else BODIES.get(last, {"name": "Quay"})
    return person.ask(method, path, body)[0]


def test_who_may_what_at_every_address(mira: Person, tomas: Person) -> None:  # noqa: F811
    project = mira.project()
    mira.change(project)
    mira.run(project, "pack")
    people = f"/api/projects/{project}/people"
    looker, changer, nobody = Person("lena"), Person("jonas"), Person()
    mira.ask("POST", people, {"name": "lena", "how": "look"})
    mira.ask("POST", people, {"name": "jonas", "how": "change"})
    rights = {(p, m): o.view_func.right for p, o in operations() for m in o.methods}
    shape = {}
    for template, right in rights.items():
        shape.setdefault((template[0].count("/"), template[1]), []).append((template[0], right))

    def needed(path: str, method: str) -> Right:
        for template, right in shape[(path.count("/"), method)]:
            if all(a == b or "{" in a for a, b in zip(template.split("/"), path.split("/"), strict=True)):
                return right
        raise AssertionError(path)

    seen, settings = 0, mira.state(project)["settings"]
    for method, path in sorted(paths(project, mira), key=lambda p: p[0] == "DELETE"):
        right = needed(path, method)
        if "batch" in path or path == "/api/events" or right in (Right.ANYBODY, Right.SIGNED_IN):
            continue
        seen += 1
        assert ask(nobody, method, path, settings) == 401, path
        assert ask(tomas, method, path, settings) == 404, (method, path)
        got = {who: ask(p, method, path, settings) for who, p in (("look", looker), ("change", changer))}
        assert (got["look"] == 403) == (right >= Right.CHANGE), (method, path, got)
        assert (got["change"] == 403) == (right is Right.OWN), (method, path, got)
        assert all(s < 500 for s in got.values()), (method, path, got)
    assert seen > 35


def test_rows_of_a_layout_are_for_who_may_see_it_whichever_way_they_are_asked_for(mira: Person, tomas: Person) -> None:  # noqa: F811
    project = mira.project()
    mira.change(project)
    mira.run(project, "pack")
    theirs = tomas.project()
    layouts = list(Layout.objects.filter(project=project).values_list("pk", flat=True))
    own = Layout.objects.filter(project=theirs).first()
    (file,) = mira.state(project)["files"]
    for a in layouts:
        for b in (*layouts, own.pk):
            assert tomas.ask("GET", f"/api/layouts/{a}/files/{file['id']}?since={b}")[0] == 404
            assert tomas.ask("GET", f"/api/layouts/{own.pk}/files/{file['id']}?since={a}")[0] == 404
    assert mira.ask("GET", f"/api/layouts/{layouts[-1]}/files/{file['id']}?since={layouts[0]}")[0] == 200


def test_a_picture_is_seen_by_who_brought_it_whatever_else_is_called_by_its_hash(mira: Person, tomas: Person) -> None:  # noqa: F811
    """Six ways of calling something by the hash of somebody else's picture."""
    project = mira.project(flat(31))
    (image,) = {sha for f in mira.state(project)["files"] for m in f["materials"] for sha in m["images"].values()}
    obj = f"mtllib paint.mtl\no {image}\nusemtl {image}\nv 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 0 1\nf 1/1 2/2 3/3\n"
    files = {f"{image}.obj": obj.encode(), "paint.mtl": f"newmtl {image}\nKd 1 1 1\n".encode()}
    number = tomas.ask("POST", "/api/projects", {"name": image})[1]["id"]
    body = {"files": [SimpleUploadedFile(n, b) for n, b in files.items()], "paths": list(files)}
    tomas.done(tomas.ask("POST", f"/api/projects/{number}/files", files=body)[1])
    state = tomas.state(number)
    assert state["files"] and state["objects"]
    sheet = {"id": 1, "name": image, "tile_names": {"1001": image}}
    for named in (
        {"channel_names": {"0": image[:50]}},
        {"bunches": [{"name": image, "members": [state["objects"][0]["key"]]}]},
        {
            "recipes": {
                image: {
                    k: state["settings"][k]
                    for k in ("padding_px", "margin_px", "rotate", "hold", "density", "keep_ratios", "seconds", "seed")
                }
            }
        },
    ):
        assert tomas.change(number, **named)[0] == 200
    tomas.run(number, "settings", settings={**tomas.state(number)["settings"], "sheets": [sheet]})
    tomas.run(number, "deliver", templates="none", pattern=f"{image[:20]}.{{tile}}")
    assert Snapshot.objects.filter(project=number, settings__icontains=image).exists(), "the name is there"
    assert tomas.ask("GET", f"/api/pictures/{image}")[0] == 404
    status, told = tomas.change(number, pictures={"1:1001": {"sha": image, "name": "x.png"}})
    assert status == 422 and "not brought in" in told["detail"]
    assert mira.ask("GET", f"/api/pictures/{image}")[0] == 200
    # Who is shown a project sees its pictures, and those that are laid under its tiles later.
    mira.ask("POST", f"/api/projects/{project}/people", {"name": "tomas", "how": "look"})
    assert tomas.ask("GET", f"/api/pictures/{image}")[0] == 200


def test_failed_sign_ins_keep_little_whatever_is_sent() -> None:
    stranger = Person()
    for name in ("x" * 30_000_000, "y" * 5_000):
        assert stranger.ask("POST", "/api/sign-in", {"name": name, "password": "p"})[0] in (413, 422)
    assert not signing.attempts.failed
    kept = signing.Attempts()
    for k in range(signing.MOST_KEPT + 500):
        kept.note(f"{k}" * 30, f"10.0.{k % 256}.{k // 256}", 0.0)
    assert len(kept.failed) == signing.MOST_KEPT and {len(k) for k in kept.failed} == {32}
    assert kept.wait(f"{signing.MOST_KEPT + 499}" * 30, "none", 1.0) == 0.0, "one failure is not too many"


def test_who_is_not_signed_in_is_not_read(mira: Person) -> None:  # noqa: F811
    nobody = Person()
    body = json.dumps({"name": "mira", "password": "p", "more": "z" * 100_000})
    assert nobody.ask("POST", "/api/sign-in", data=body, content_type="application/json")[0] == 413
    assert mira.ask("GET", "/api/projects")[0] == 200


def test_every_address_that_changes_something_asks_for_header_origin_host_and_token(mira: Person) -> None:  # noqa: F811
    number = mira.project()
    before = mira.state(number)
    token = mira.client.cookies["csrftoken"].value
    changes = 0
    for path, operation in operations():
        url = path
        for name in ("project_id", "job_id", "layout_id", "file_id", "batch_id", "asset_id"):
            url = url.replace("{" + name + "}", str(number))
        for method in set(operation.methods) - {"GET"}:
            changes += 1
            sent: dict[str, Any] = {"data": "{}", "content_type": "application/json"}
            good = {"x-quilt": "1", "x-csrftoken": token}
            bare = Client(enforce_csrf_checks=True)
            bare.cookies = mira.client.cookies
            for headers, status in (
                ({k: v for k, v in good.items() if k != "x-quilt"}, 403), (good | {"origin": "http://elsewhere.example"}, 403),
                (good | {"host": "elsewhere.example"}, 400), ({"x-quilt": "1"}, 403), (good | {"x-csrftoken": "a" * 64}, 403),
            ):  # fmt: skip
                answer = bare.generic(method, url, headers=headers, **sent)
                assert answer.status_code == status, (method, url, headers, answer.status_code, answer.content[:200])
    assert changes > 25 and mira.state(number) == before


def test_a_session_is_another_one_once_somebody_signs_in_and_none_once_they_leave() -> None:
    """A session that was known before cannot be used after (fixation), nor one that ended (replay)."""
    person = Person("lena", sign_in=False)
    person.client.session.save()
    person.client.cookies["sessionid"] = known = "a" * 32
    assert person.ask("POST", "/api/sign-in", {"name": "lena", "password": PASSWORD})[0] == 200
    mine = person.client.cookies["sessionid"].value
    assert mine != known
    assert person.ask("POST", "/api/sign-out", {})[0] == 200
    for old in (known, mine):
        person.client.cookies["sessionid"] = old
        assert person.ask("GET", "/api/projects")[0] == 401
