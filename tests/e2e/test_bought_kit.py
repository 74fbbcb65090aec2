"""A bought kit of centimetres on two sheets, in two tabs: from the files to the zip with one verdict, wherever it is read."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from quilt_cli.main import main
from tests.shapes import grid_obj, kit

from .steps import deliver, idle, put, section, stage, start

CM = 100


def in_centimetres(data: bytes) -> bytes:
    """An OBJ whose positions are a hundred times as large."""

    def line(text: str) -> str:
        return "v " + " ".join(repr(CM * float(x)) for x in text.split()[1:4]) if text.startswith("v ") else text

    return ("\n".join(map(line, data.decode().splitlines())) + "\n").encode()


def said(page: Page) -> tuple[str, ...]:
    """The verdict that is in sight, without the map size that it begins with."""
    return (page.get_by_test_id("verdict").first.inner_text(),)


def test_a_kit_is_the_same_to_all_who_judge_it(page: Page, address: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    for name, data in (("kit", kit()), ("posts", grid_obj(6, 0.4, 0.05))):
        (tmp_path / f"{name}.obj").write_bytes(in_centimetres(data))
    start(page, address, "Bought kit", tmp_path / "kit.obj", tmp_path / "posts.obj")
    page.get_by_role("button", name="Take all 2 as centimetres").click()
    idle(page)
    stage(page, "Arrange")
    put(page, "Time", "1")
    section(page, "Sheets")
    page.get_by_role("button", name="Add a sheet").click()
    idle(page)
    page.get_by_role("listbox", name="Objects").get_by_role("option", name=re.compile("squares")).click()
    page.get_by_label("Move the selection to").select_option("2")
    idle(page)
    other = page.context.new_page()
    other.goto(page.url)
    stage(other, "Mend")
    stage(page, "Mend")
    page.get_by_role("button", name="Make it ready").click()
    expect(page.get_by_label("What was done")).to_be_visible(timeout=90_000)
    idle(page)
    verdict = said(page)
    expect(page.get_by_text("In another tab")).not_to_be_visible()
    # The other tab has all of it by itself, also what was made in this one.
    expect(other.get_by_test_id("verdict").first).to_have_text(verdict[0], timeout=5_000)
    sheets = {}
    for number in ("1", "2"):
        for tab in (page, other):
            stage(tab, "Prove")
            tab.get_by_label("Sheet on the table").select_option(number)
            sheets.setdefault(number, []).append(said(tab))
        stage(page, "Arrange")
        sheets[number].append(said(page))
        assert len(set(sheets[number])) == 1, sheets
    assert verdict in {v[0] for v in sheets.values()}, "that of the worst sheet"
    with deliver(page, tmp_path / "out.zip") as archive:
        archive.extractall(tmp_path / "out")
        report = json.loads(archive.read("report.json"))
    assert report["verdict"] == verdict[0]
    assert [report["sheets"][f"Sheet {n}"]["verdict"] for n in (1, 2)] == [sheets[n][0][0] for n in ("1", "2")]
    for name, number in (("kit", "1"), ("posts", "2")):
        code = main(["verify", str(tmp_path / f"out/{name}.obj"), "--unit", "cm", "--map", "2048", "--padding", "8"])
        line = capsys.readouterr()
        assert code == 0 and sheets[number][0][0].startswith("Fit for baking"), line
