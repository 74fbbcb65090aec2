"""The log that all processes share: no line is lost when it turns, and errors of ours are in it."""

from __future__ import annotations

import logging
import multiprocessing
from pathlib import Path

import pytest
from django.conf import settings
from django.test import Client

from quilt_server import logs
from quilt_server.logs import SharedLog, log_path

LINES = 300


def _write(path: str, who: int) -> None:
    logs._LARGEST = 20_000
    handler = SharedLog(path)
    for k in range(LINES):
        handler.emit(logging.LogRecord("quilt", logging.INFO, "", 0, f"line {who} {k} {'x' * 60}", None, None))


def test_four_processes_write_one_log_and_no_line_is_lost(tmp_path: Path) -> None:
    path = tmp_path / "logs" / "quilt.log"
    made = [multiprocessing.get_context("fork").Process(target=_write, args=(str(path), n)) for n in range(4)]
    for p in made:
        p.start()
    for p in made:
        p.join()
    files = sorted(path.parent.iterdir())
    assert 3 <= len(files) <= 6 and all(f.stat().st_size < 40_000 for f in files)
    lines = [line for f in files for line in f.read_text().splitlines()]
    assert len(lines) == len(set(lines)) == 4 * LINES


def test_a_log_that_cannot_be_written_stops_nobody(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    SharedLog(str(tmp_path / "gone" / "logs" / "quilt.log")).emit(logging.LogRecord("quilt", logging.INFO, "", 0, "a line", None, None))
    assert not (tmp_path / "gone").exists()


@pytest.mark.django_db
def test_an_error_of_ours_is_told_in_words_and_stands_in_the_log(monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*_: object) -> None:
        raise ZeroDivisionError("a defect")

    monkeypatch.setattr("quilt_server.api._row", broken)
    answer = Client(headers={"x-quilt": "1"}, raise_request_exception=False).post(
        "/api/projects", {"name": "x"}, content_type="application/json"
    )
    assert answer.status_code == 500 and "logs/quilt.log" in answer.json()["detail"]
    text = log_path(Path(settings.DATA_DIR)).read_text()
    assert "POST /api/projects failed" in text and "ZeroDivisionError: a defect" in text
