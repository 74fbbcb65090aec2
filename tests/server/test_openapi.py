"""The API document in the repository is the API's own."""

from __future__ import annotations

from pathlib import Path

from quilt_server.openapi import document


def test_the_document_is_current() -> None:
    path = Path(__file__).resolve().parents[2] / "quilt_server/openapi.json"
    assert path.read_text() == document(), "run: python -m quilt_server.openapi > quilt_server/openapi.json, then npm run api in web/"
