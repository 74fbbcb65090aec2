"""Meshes cleaned where they are written anew, counted before and told in what is delivered; as they came they stay as they are."""

from __future__ import annotations

import io
import zipfile

import numpy as np
import pytest
import trimesh

from quilt_server.projects.models import Job

from .test_api import Browser


@pytest.fixture
def browser(transactional_db: None) -> Browser:
    return Browser()


def dirty() -> bytes:
    """A closed box with a face twice, one wound the other way, one without area, and vertices of their own for each face."""
    box = trimesh.creation.box((1, 2, 3))
    faces = [box.vertices[f] for f in box.faces]
    faces[3] = faces[3][::-1]
    faces += [faces[0], np.array([faces[1][0], faces[1][1], faces[1][0]])]
    lines = ["o box"]
    for f in faces:
        lines += ["v {:.6f} {:.6f} {:.6f}".format(*p) for p in f]
        lines += ["vt {:.6f} {:.6f}".format(*(0.1 + 0.1 * p[:2])) for p in f]
    lines += ["f " + " ".join(f"{3 * k + i}/{3 * k + i}" for i in (1, 2, 3)) for k in range(len(faces))]
    return "\n".join(lines).encode()


def opened(browser: Browser, name: str, **order: object) -> tuple[trimesh.Trimesh, dict]:
    out = browser.run("deliver", templates="none", **order)
    assert out["state"] == "done", out["error"]
    with zipfile.ZipFile(io.BytesIO(Job.objects.get(pk=out["id"]).output)) as z:
        mesh = trimesh.load(io.BytesIO(z.read(name)), file_type=name.rsplit(".", 1)[1], force="mesh", process=False)
    mesh.merge_vertices(merge_tex=True, merge_norm=True)
    return mesh, out["result"]["figures"]


def test_what_there_is_is_counted_with_its_place(browser: Browser) -> None:
    browser.upload(box__obj=dirty())
    (row,) = browser.run("dirt")["result"]["rows"]
    assert row["name"] == "box" and row["counts"] == {"doubled": 1, "flat": 1, "turned": 1, "merged": 42 - 8}
    assert row["faces"] == {"doubled": [12], "flat": [13], "turned": [3]} and row["borders"] == 0 and row["parts"] == 1


def test_cleaned_where_it_is_written_anew_and_told(browser: Browser) -> None:
    browser.upload(box__obj=dirty())
    plain, figures = opened(browser, "box.glb", format="glb")
    assert len(plain.faces) == 14 and not any("cleaned" in n for n in figures["notes"])
    mesh, figures = opened(browser, "box.glb", format="glb", clean=["doubled", "flat", "turned", "merged"])
    assert mesh.is_watertight and mesh.is_winding_consistent and mesh.volume == pytest.approx(6) and len(mesh.faces) == 12
    (note,) = [n for n in figures["notes"] if "cleaned" in n]
    assert "faces that are there twice (1)" in note and "duplicate vertices (34)" in note and note.startswith("box.obj, box")


def test_files_that_leave_as_they_came_keep_their_geometry(browser: Browser) -> None:
    browser.upload(box__obj=dirty())
    body = {"kind": "deliver", "base": browser.state()["snapshot"], "params": {"clean": ["flat"]}}
    assert "keep their geometry" in browser.post(f"/api/projects/{browser.project}/jobs", body, 422)["detail"]
    body["params"] = {"clean": ["dust"], "format": "glb"}
    assert "cleaned of" in browser.post(f"/api/projects/{browser.project}/jobs", body, 422)["detail"]
