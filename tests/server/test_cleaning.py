"""Meshes cleaned where they are written anew, counted before and told in what is delivered; as they came they stay as they are."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path

import numpy as np
import pytest
import trimesh

from quilt_server.projects.models import Job

from .test_api import Browser
from .test_job_files import delivered, done_again, same_bytes


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


def faults(browser: Browser) -> list[dict]:
    return list(browser.client.get(f"/api/projects/{browser.project}/faults").json())


def wound(unit: float = 1.0) -> bytes:
    """A tube without caps of 24 sides, cut along one line and laid flat, of which every other face runs the other way."""
    lines = ["o tube"]
    for k in range(25):
        a = 2 * np.pi * (k % 24) / 24
        lines += [f"v {np.cos(a) / unit:.6f} {np.sin(a) / unit:.6f} {z / unit:.6f}" for z in (0, 2)]
        lines += [f"vt {0.02 + k * 0.035:.6f} {v}" for v in (0.1, 0.4)]
    for k in range(24):
        q = [2 * k + 1, 2 * k + 3, 2 * k + 4, 2 * k + 2]
        lines.append("f " + " ".join(f"{i}/{i}" for i in (q if k % 2 else q[::-1])))
    return "\n".join(lines).encode()


def test_faces_wound_against_each_other_are_offered_to_be_cleaned(browser: Browser) -> None:
    """As it came every face would be an island of its own; cleaned it unwraps to one, and a closed tube is 4 pi in area whatever its unit (arithmetic)."""
    browser.upload(tube__obj=wound())
    fault = next(f for f in faults(browser) if f["kind"] == "against")
    assert fault["repair"] == "clean" and "Clean" in fault["remedy"]
    made = browser.run("clean")
    assert made["state"] == "done" and made["result"]["rows"][0]["counts"]["turned"] == 12
    assert not [f for f in faults(browser) if f["kind"] in ("against", "turned")]
    assert browser.run("unwrap", objects=[browser.state()["objects"][0]["key"]])["state"] == "done"
    (o,) = browser.state()["objects"]
    assert o["islands"] == 1 and o["name"] == "tube"
    mesh, _ = opened(browser, "tube.obj")
    assert mesh.is_winding_consistent and mesh.area == pytest.approx(4 * np.pi, rel=0.01)
    again = browser.run("clean")
    assert again["state"] == "failed" and again["error"].startswith("Nothing here has to be cleaned")


def test_a_cleaned_file_keeps_its_unit_its_layout_and_what_was_made_of_it(browser: Browser) -> None:
    browser.upload(tube__obj=wound(0.01), box__obj=dirty())
    for f in browser.state()["files"]:
        if f["name"] == "tube.obj":
            assert browser.run("units", units={str(f["id"]): 0.01})["state"] == "done"
    keys = {o["name"]: o["key"] for o in browser.state()["objects"]}
    assert browser.run("clean", objects=[keys["tube"]], what=["turned"])["state"] == "done"
    state = browser.state()
    assert [o["triangles"] for o in state["objects"] if o["name"] == "box"] == [14], "what was not asked for stays"
    assert sum(o["world_area"] for o in state["objects"] if o["name"] == "tube") == pytest.approx(4 * np.pi, rel=0.01)
    with zipfile.ZipFile(io.BytesIO(Job.objects.get(pk=browser.run("deliver", templates="none")["id"]).output)) as z:
        tube = trimesh.load(io.BytesIO(z.read("tube.obj")), file_type="obj", process=False)
    assert np.ptp(tube.vertices[:, 2]) == pytest.approx(200), "in centimetres, as it came"


def test_made_ready_with_clean_meshes(browser: Browser) -> None:
    """Two steps in one: cleaned, then unwrapped; taken back by one undo."""
    browser.upload(tube__obj=wound())
    assert browser.run("ready", clean=True)["state"] == "done"
    state = browser.state()
    assert state["objects"][0]["islands"] == 1 and state["undo"] == "Make it ready"
    browser.post(f"/api/projects/{browser.project}/undo", {"base": state["snapshot"]})
    assert browser.state()["objects"][0]["islands"] == 1 and [f for f in faults(browser) if f["kind"] == "against"]


def test_cleaning_of_nothing_known_is_refused(browser: Browser) -> None:
    browser.upload(box__obj=dirty())
    for wrong in ({"what": ["dust"]}, {"what": []}, {"what": "flat"}):
        body = {"kind": "clean", "base": browser.state()["snapshot"], "params": wrong}
        assert browser.post(f"/api/projects/{browser.project}/jobs", body, 422)["detail"]


def test_cleaning_is_a_step_of_a_job_file(browser: Browser, tmp_path: Path) -> None:
    """Cleaned, unwrapped, a hand's move by island number and packed: the job of it gives the same bytes from the files as they came."""
    browser.upload(tube__obj=wound())
    (tmp_path / "tube.obj").write_bytes(wound())
    browser.change(settings={**browser.state()["settings"], "passes": 1, "map_px": 256})
    assert browser.run("clean")["state"] == "done"
    tube = browser.state()["objects"][0]["key"]
    for kind, params in (("unwrap", {"objects": [tube]}), ("mend", {"action": "straighten", "way": "edges"}), ("pack", {})):
        assert (done := browser.run(kind, **params))["state"] == "done", done["error"]
    wanted = delivered(browser)
    done = done_again(browser, tmp_path)
    assert "clean" in [s["do"] for s in done.steps] and not done.notes
    same_bytes(done.files, wanted)
