"""Requests of any form, made from the API's own description: none is an error of ours."""

from __future__ import annotations

import json
import os
from typing import Any

import pytest
import schemathesis
from django.test import Client
from hypothesis import HealthCheck, Phase, settings

from quilt_server.api import api
from quilt_server.projects.models import Job
from tests.core.test_faults import squares

from .test_api import Browser

CASES = int(os.environ.get("QUILT_SCHEMA_CASES", "6"))
schema = schemathesis.openapi.from_dict(api.get_openapi_schema())


@pytest.fixture
def project(transactional_db: None) -> int:
    browser = Browser()
    browser.upload(a__obj=squares([(0.1, 0.1, 0.4, 0.4), (0.5, 0.5, 0.9, 0.9)]))
    return browser.project


@schema.parametrize()
@settings(
    max_examples=CASES, deadline=None, derandomize=True, phases=[Phase.explicit, Phase.generate],
    suppress_health_check=list(HealthCheck), database=None,
)  # fmt: skip
@pytest.mark.django_db(transaction=True)
def test_no_request_is_an_error_of_ours(case: Any, project: int) -> None:
    """Made by schemathesis from openapi.json; numbers of projects are those of one that is there, half of the time."""
    if "project_id" in case.path_parameters and hash(str(case.path_parameters)) % 2:
        case.path_parameters["project_id"] = project
    client = Client(headers={"x-quilt": "1"}, raise_request_exception=False)
    body = case.body if not isinstance(case.body, schemathesis.core.NotSet) else None
    more: dict[str, Any] = {}
    if body is not None and case.media_type == "application/json":
        more = {"data": json.dumps(body, default=str), "content_type": "application/json"}
    answer = client.generic(case.method.upper(), case.formatted_path, query_params=case.query or None, **more)
    assert answer.status_code < 500, (case.method, case.formatted_path, case.query, body, answer.content[:300])
    Job.objects.filter(state="waiting").update(state="stopped")


@pytest.mark.django_db(transaction=True)
def test_odd_numbers_and_long_names_are_not_found_or_refused(project: int) -> None:
    client = Client(headers={"x-quilt": "1"}, raise_request_exception=False)
    job = Job.objects.create(project_id=project, kind="deliver", state="done", result={"figures": {"carried": []}})
    huge = 2**70
    for path in (
        f"jobs/{job.pk}/carried/-1.png", f"jobs/{job.pk}/carried/{huge}.png", f"projects/{huge}", f"jobs/{huge}", f"layouts/{huge}/picture",
        f"layouts/1/files/{huge}", f"layouts/1/files/1?since={huge}", f"files/{huge}/channels/0/geometry", f"files/1/channels/{huge}/geometry",
        f"projects/{project}?look={huge}", f"projects/{project}/faults?look={huge}", f"batches/{huge}", f"batches/1/assets/{huge}/picture", f"pictures/{'f' * 5000}",
        f"library?folder={'a/' * 3000}", "library?folder=%00", f"projects/{-(2**70)}", f"jobs/{job.pk}/draft/{huge}",
    ):  # fmt: skip
        answer = client.get(f"/api/{path}")
        assert answer.status_code in (200, 204, 404, 422), (path, answer.status_code, answer.content[:200])
    for kind, body in (
        ("undo", {"base": huge}),
        ("change", {"base": huge, "settings": {}}),
        ("take", {"base": huge, "snapshot": huge}),
        ("jobs", {"kind": "pack", "base": huge}),
    ):
        answer = client.post(f"/api/projects/{project}/{kind}", json.dumps(body), content_type="application/json")
        assert 400 <= answer.status_code < 500, (kind, answer.status_code, answer.content[:200])


@pytest.mark.django_db(transaction=True)
def test_a_library_is_asked_for_folders_that_no_disk_has(project: int, settings: Any, tmp_path: Any) -> None:
    settings.QUILT_LIBRARY = str(tmp_path)
    (tmp_path / "loop").symlink_to("loop")
    client = Client(headers={"x-quilt": "1"}, raise_request_exception=False)
    for folder in ("a/" * 3000, "x" * 300, "\0", "..", "loop", "/etc", "a\nb"):
        answer = client.get("/api/library", query_params={"folder": folder})
        assert answer.status_code == 422 and "There is no folder" in answer.json()["detail"], folder
