"""An installation that a team shares, in real browsers: signing in, sharing, and seeing what others do."""

from __future__ import annotations

import os
import random
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, TimeoutError, expect

from tests.hostile.running import Running, running
from tests.kit.processes import ROOT
from tests.shapes import grid_obj

from .steps import idle, put, stage

PASSWORD = "a long blue thread"
PEOPLE = ("mira", "tomas", "ines", "olan", "juno")
SECONDS = float(os.environ.get("QUILT_FIVE_SECONDS", "15"))


@pytest.fixture(scope="module")
def team(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    data = tmp_path_factory.mktemp("team") / "data"
    env = {k: v for k, v in os.environ.items() if k not in ("QUILT_DATA", "DJANGO_SETTINGS_MODULE")} | {"PYTHONPATH": str(ROOT)}
    for name in PEOPLE:
        command = [sys.executable, "-m", "quilt_cli", "user", "add", name, "--data", str(data)]
        subprocess.run(command, input=f"{PASSWORD}\n", text=True, cwd=ROOT, env=env, check=True, capture_output=True)
    with running(data, "--team") as r:
        yield r


def signed_in(chromium: Browser, team: Running, name: str) -> Page:
    """A browser of its own in which somebody is signed in."""
    context: BrowserContext = chromium.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    page.goto(f"http://localhost:{team.port}/")
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("button", name="Sign out")).to_be_visible()
    return page


def start(page: Page, name: str, file: Path) -> None:
    page.get_by_label("Name of the new project").fill(name)
    page.get_by_role("button", name="Start a project").click()
    page.get_by_test_id("files").set_input_files([file])
    expect(page.get_by_role("heading", name="Inspect")).to_be_visible(timeout=60_000)
    idle(page)


def share(page: Page, project: str, whom: str, how: str) -> None:
    card = page.get_by_test_id("project").filter(has_text=project)
    if not page.get_by_role("combobox", name=f"What {whom} may do").is_visible():
        card.get_by_role("button", name="Share").click()
    page.get_by_role("combobox", name=f"What {whom} may do").select_option(how)


def test_two_people_see_what_the_other_does(chromium: Browser, team: Running, tmp_path: Path) -> None:
    (tmp_path / "crate.obj").write_bytes(grid_obj(4))
    stranger = chromium.new_context().new_page()
    stranger.goto(f"http://localhost:{team.port}/project/1")
    stranger.get_by_label("Name").fill("mira")
    stranger.get_by_label("Password").fill("something else entirely")
    stranger.get_by_role("button", name="Sign in").click()
    expect(stranger.get_by_role("alert")).to_contain_text("do not go together")

    mira, tomas = (signed_in(chromium, team, name) for name in ("mira", "tomas"))
    start(mira, "Harbour wall", tmp_path / "crate.obj")
    expect(tomas.get_by_text("Harbour wall")).not_to_be_visible()
    mira.get_by_role("button", name="All projects").click()
    share(mira, "Harbour wall", "tomas", "look")
    tomas.reload()
    expect(tomas.get_by_test_id("project")).to_contain_text("of mira, to look at")
    tomas.get_by_role("button", name="Harbour wall").click()
    expect(tomas.get_by_text("To look at")).to_be_visible()
    share(mira, "Harbour wall", "tomas", "change")
    tomas.reload()
    mira.get_by_role("button", name="Harbour wall").click()
    idle(mira)
    stage(tomas, "Arrange")
    idle(tomas)
    put(tomas, "Padding", "6")
    begin = time.monotonic()
    expect(mira.get_by_role("status").filter(has_text="tomas: Change padding")).to_be_visible()
    assert time.monotonic() - begin < 5, "it is shown soon; the page asks every 1.2 s"
    tomas.get_by_role("button", name="Pack this sheet").click()
    theirs = mira.get_by_role("status").filter(has_text="tomas: Packing")
    expect(theirs).to_be_visible()
    mira.get_by_role("button", name="Stop", exact=True).click()
    idle(tomas)
    expect(theirs).not_to_be_visible()
    expect(mira.get_by_role("status").filter(has_text="tomas: ")).to_be_visible(timeout=10_000)
    assert mira.get_by_role("button", name="Undo").is_enabled()
    for page in (mira, tomas, stranger):
        page.context.close()


def test_five_people_on_three_projects_lose_nothing_and_see_nothing_of_others(chromium: Browser, team: Running, tmp_path: Path) -> None:
    """For a while everybody changes, packs, undoes and looks, in five browsers. `QUILT_FIVE_SECONDS=600` is the ten minutes of a standing check."""
    (tmp_path / "crate.obj").write_bytes(grid_obj(12))
    pages = {name: signed_in(chromium, team, name) for name in PEOPLE}
    owners = {"Quay": "mira", "Mill": "tomas", "Sluice": "ines"}
    works = {"mira": "Quay", "tomas": "Mill", "ines": "Sluice", "olan": "Quay", "juno": "Mill"}
    for project, owner in owners.items():
        start(pages[owner], project, tmp_path / "crate.obj")
        pages[owner].get_by_role("button", name="All projects").click()
    share(pages["mira"], "Quay", "olan", "change")
    share(pages["tomas"], "Mill", "juno", "change")
    seen = {}
    for name, page in pages.items():
        page.reload()
        expect(page.get_by_test_id("project").first).to_be_visible()
        seen[name] = {t for t in ("Quay", "Mill", "Sluice") if page.get_by_role("button", name=t, exact=True).count()}
    assert seen == {"mira": {"Quay"}, "tomas": {"Mill"}, "ines": {"Sluice"}, "olan": {"Quay"}, "juno": {"Mill"}}
    for name, page in pages.items():
        page.get_by_role("button", name=works[name], exact=True).click()
        expect(page.get_by_role("heading", name=works[name])).to_be_visible()
        stage(page, "Arrange")
    chance, end, done = random.Random(4), time.monotonic() + SECONDS, 0
    while time.monotonic() < end:
        for page in pages.values():
            done += _one_thing(chance, page)
    for page in pages.values():
        idle(page)
        expect(page.get_by_role("heading", name="Arrange")).to_be_visible()
    assert done > len(PEOPLE), "something was done"
    with sqlite3.connect(team.data / "quilt.sqlite3") as db:
        rows = db.execute(
            "select s.project_id, u.username from projects_snapshot s join auth_user u on u.id = s.author_id join projects_project p on p.id = s.project_id"
            " where p.name in ('Quay', 'Mill', 'Sluice')"
        ).fetchall()
        names = dict(db.execute("select id, name from projects_project").fetchall())
        left = db.execute("select count(*) from projects_job where state in ('waiting', 'running')").fetchone()[0]
        broken = db.execute("select count(*) from projects_job where state = 'failed' and error like '%logs/quilt.log%'").fetchone()[0]
    assert all(works[user] == names[project] for project, user in rows) and len({user for _, user in rows}) >= (
        len(PEOPLE) if SECONDS >= 120 else len(owners)
    )
    assert (left, broken) == (0, 0)
    for page in pages.values():
        page.context.close()


def _one_thing(chance: random.Random, page: Page) -> int:
    """Change a setting, pack, undo or look around; 1 where it could be done."""
    busy = page.get_by_role("button", name="Stop")
    what = chance.random()
    redo = page.get_by_role("button", name="Redo")
    if what < 0.25:
        # Whoever took back all that there was brings it again, so that the others have something to work on.
        gone = redo.is_enabled() and not page.get_by_role("button", name="Pack this sheet").is_enabled() and not busy.is_visible()
        button = redo if gone else page.get_by_role("button", name="Undo")
    elif what < 0.5 and not busy.is_visible():
        button = page.get_by_role("button", name="Pack this sheet")
    elif busy.is_visible() and what < 0.8:
        button = busy.first
    else:
        page.mouse.move(chance.randrange(320, 960), chance.randrange(150, 400))
        return 0
    try:
        if not button.is_visible() or not button.is_enabled(timeout=500):
            return 0
        button.click(timeout=2000)
    except TimeoutError:  # it went while it was reached for
        return 0
    return 1
