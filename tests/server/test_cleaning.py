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
    assert (
        row["faces"] == {"doubled": [12], "flat": [13], "turned": [3], "holes": [], "loose": []}
        and row["borders"] == 0
        and row["parts"] == 1
    )


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


def dome(extra: str = "") -> bytes:
    """Faces of a ball above its middle, seen from above in the plane, without one of them; and a part of its own."""
    ball = trimesh.creation.icosphere(2)
    faces = ball.faces[ball.triangles_center[:, 2] > 0]
    faces = np.delete(faces, np.argmax(ball.triangles_center[ball.triangles_center[:, 2] > 0][:, 2]), axis=0)
    lines = ["o dome", *("v {:.6f} {:.6f} {:.6f}".format(*p) for p in ball.vertices)]
    lines += ["vt {:.6f} {:.6f}".format(*(0.5 + 0.4 * p[:2])) for p in ball.vertices]
    lines += ["f " + " ".join(f"{k + 1}/{k + 1}" for k in f) for f in faces]
    return "\n".join(lines).encode() + extra.encode()


def test_a_small_hole_is_shown_and_closed_in_its_own_room(browser: Browser) -> None:
    browser.upload(dome__obj=dome())
    (row,) = browser.run("dirt")["result"]["rows"]
    assert row["counts"] == {"holes": 1} and len(row["faces"]["holes"]) == 3 and row["borders"] == 2 and not row["faces"]["loose"]
    plain, _ = opened(browser, "dome.glb", format="glb")
    mesh, figures = opened(browser, "dome.glb", format="glb", clean=["holes"])
    assert len(mesh.faces) == len(plain.faces) + 1
    assert len(trimesh.grouping.group_rows(mesh.edges_sorted, 1)) == len(trimesh.grouping.group_rows(plain.edges_sorted, 1)) - 3
    assert any("small holes (1)" in n for n in figures["notes"])


def test_a_hole_stays_open_where_an_island_lies_in_it(browser: Browser) -> None:
    # A speck of another part lies in the plane where the missing face was.
    speck = "\no speck\nv 5 0 0\nv 5.01 0 0\nv 5 0.01 0\nvt {0} {1}\nvt {2} {1}\nvt {0} {3}\nf -3/-3 -2/-2 -1/-1\n"
    ball = trimesh.creation.icosphere(2)
    at = 0.5 + 0.4 * ball.triangles_center[np.argmax(ball.triangles_center[:, 2])][:2]
    browser.upload(dome__obj=dome(speck.format(at[0], at[1], at[0] + 0.002, at[1] + 0.002)))
    rows = browser.run("dirt")["result"]["rows"]
    assert [r["counts"] for r in rows] == [{"holes": 1}, {}]
    _, figures = opened(browser, "dome.glb", format="glb", clean=["holes"])
    (note,) = [n for n in figures["notes"] if "hole" in n]
    assert "1 small hole stays open" in note and "room" in note


def test_loose_parts_are_those_that_do_not_hang_together_with_the_largest(browser: Browser) -> None:
    browser.upload(two__obj=dirty() + b"\nv 9 0 0\nv 9.1 0 0\nv 9 .1 0\nf -3 -2 -1\n")
    (row,) = browser.run("dirt")["result"]["rows"]
    assert row["parts"] == 2 and row["faces"]["loose"] == [14]
