"""What the program says of how a delivery looks: nothing where nothing is, the fault and its material where one was planted."""

from __future__ import annotations

import pygltflib
import pytest

from quilt_core import formats
from quilt_core.formats.pictures import pictures
from quilt_core.textures import judged, seen
from quilt_core.textures.paint import Coat, Old
from tests.kit.handed import MAP, PROPERTIES, delivered, three


def looked_at(made: dict[str, bytes], after: dict[str, bytes], main: str) -> list[dict[str, object]]:
    """What the program itself says of a delivery."""
    before, now = (formats.read(x[main], main, 1.0, x) for x in (made, after))
    maps = [{kind: Old(kind, lambda body=body: body) for kind, body in found.items()} for found in pictures(before, made)]  # type: ignore[misc]
    return seen.compare(seen.of_coat(Coat(before, {}, maps)), seen.of_scene(now, after, {}), 0, MAP)


@pytest.mark.parametrize("per_sheet", [False, True])
@pytest.mark.parametrize(
    "name", ["plain", "emission above one", "normal scale", "occlusion strength", "blend with a factor", "clamp", "transforms that differ"]
)
def test_the_program_sees_no_difference_where_there_is_none(name: str, per_sheet: bool) -> None:
    made, main, _ = three(PROPERTIES[name], "glb")
    after, _ = delivered(made, main, per_sheet)
    found = looked_at(made, after, main)
    assert min(f["psnr"] for f in found) > 40 and {f["material"] for f in found} == {"one", "full", "plain"}
    assert judged.reasons(judged.summed(found)) == []


def test_the_program_names_what_looks_other() -> None:
    """Each fault that was once overlooked, planted into a delivery: a factor lost, a map of another kind, glass that became opaque."""
    made, main, _ = three(PROPERTIES["blend"], "glb")
    after, _ = delivered(made, main, False)
    for change, kind, who in (
        (lambda g: setattr(g.materials[2].pbrMetallicRoughness, "roughnessFactor", 1.0), "roughness", "plain"),
        (lambda g: setattr(g.materials[0], "alphaMode", "OPAQUE"), "opacity", "one"),
        (lambda g: setattr(g.materials[1], "emissiveFactor", [0, 0, 0]), "emission", "full"),
        (lambda g: g.materials[1].normalTexture.__setattr__("index", g.materials[1].occlusionTexture.index), "normal", "full"),
    ):
        g = pygltflib.GLTF2.load_from_bytes(after[main])
        change(g)
        found = looked_at(made, {main: b"".join(g.save_to_bytes())}, main)
        told, worst = judged.reasons(judged.summed(found)), judged.by_material(found)[0]
        assert (worst["material"], worst["kind"]) == (who, kind)
        assert len(told) == 1 and kind in told[0] and f"'{who}'" in told[0], (kind, told)


def test_what_is_cut_out_is_judged_by_the_share_that_flips() -> None:
    """A leaf said "opacity 28.8 dB" where no point of 335 differed: of a cut-out a point is there or not, and 0.13 % of them along its edges say nothing."""
    figure = {"kind": seen.CUT, "worst": "leaf", "worst_psnr": 28.8}
    assert judged.reasons([figure]) == []
    assert judged.reasons([figure | {"worst_psnr": 15.0}]) == [
        "3.2% of 'leaf' is cut out that was there, or the other way round (1% at most is wanted)."
    ]
    made, main, _ = three(PROPERTIES["mask"], "glb")
    after, _ = delivered(made, main, False)
    assert judged.reasons(judged.summed(looked_at(made, after, main))) == []
    assert "cut-out" in {f["kind"] for f in looked_at(made, after, main)}
    g = pygltflib.GLTF2.load_from_bytes(after[main])
    g.materials[0].alphaCutoff = 0.99
    told = judged.reasons(judged.summed(looked_at(made, {main: b"".join(g.save_to_bytes())}, main)))
    assert len(told) == 1 and "is cut out that was there" in told[0]
