"""Old pictures that nothing reads any more, taken out of glTF documents whose parts are named by number."""

from __future__ import annotations

import copy
import json
from typing import Any

import pytest

from quilt_core.formats.gltf.container import Document
from quilt_core.formats.gltf.prune import materials_used, prune, prune_materials, textures_read

ROOT: dict[str, Any] = {
    "asset": {"version": "2.0"},
    "buffers": [{"byteLength": 64}],
    "bufferViews": [{"buffer": 0, "byteOffset": 16 * k, "byteLength": 16} for k in range(4)],
    "accessors": [{"bufferView": 3, "componentType": 5126, "count": 1, "type": "VEC4"}],
    "images": [{"bufferView": 0}, {"bufferView": 1}, {"uri": "old%20wood.png"}, {"uri": "kept.png"}],
    "textures": [{"source": 0}, {"source": 1}, {"source": 2}, {"source": 3}, {"source": 1, "extensions": {"EXT_texture_webp": {"source": 0}}}],
    "materials": [
        {"name": "old", "pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}, "normalTexture": {"index": 2}},
        {"name": "new", "pbrMetallicRoughness": {"baseColorTexture": {"index": 3}}, "extensions": {"KHR_materials_clearcoat": {"clearcoatTexture": {"index": 1}}}},
    ],
    "meshes": [{"primitives": [{"attributes": {}, "material": 1}, {"attributes": {}}]}],
}  # fmt: skip


def document(**more: Any) -> Document:
    return Document("a.glb", copy.deepcopy(ROOT) | more, [bytes(range(64))], [""], True)


def test_textures_images_and_bytes_that_only_old_materials_read_go() -> None:
    d = document()
    read, used = textures_read(d), {0, 1}
    assert read == {0, 1, 2, 3} and materials_used(d) == {1}
    prune_materials(d, used)
    assert [m["name"] for m in d.json["materials"]] == ["new"] and d.json["meshes"][0]["primitives"][0]["material"] == 0
    assert prune(d, read) == {"old wood.png"}
    # What was never read by a material (texture 4) stays, and with it image 0 by its extension.
    assert d.json["images"] == [{"bufferView": 0}, {"bufferView": 1}, {"uri": "kept.png"}]
    assert d.json["textures"] == [{"source": 1}, {"source": 2}, {"source": 1, "extensions": {"EXT_texture_webp": {"source": 0}}}]
    m = d.json["materials"][0]
    assert (
        m["pbrMetallicRoughness"]["baseColorTexture"]["index"] == 1
        and m["extensions"]["KHR_materials_clearcoat"]["clearcoatTexture"]["index"] == 0
    )


def test_bytes_behind_a_picture_that_goes_keep_their_meaning() -> None:
    d = document(textures=ROOT["textures"][:4])
    prune_materials(d, {0, 1})
    prune(d, {0, 2})
    view = d.json["bufferViews"][3]
    assert bytes(d.buffers[0])[view["byteOffset"] : view["byteOffset"] + 16] == bytes(range(48, 64))
    assert len(d.buffers[0]) == d.json["buffers"][0]["byteLength"] == 52 and d.json["bufferViews"][0]["byteLength"] == 4


@pytest.mark.parametrize("extension", ["KHR_materials_variants", "KHR_animation_pointer"])
def test_materials_that_may_be_meant_by_number_elsewhere_stay(extension: str) -> None:
    d = document(extensionsUsed=[extension])
    prune_materials(d, {0, 1})
    assert len(d.json["materials"]) == 2


def test_where_everything_is_read_nothing_changes() -> None:
    d = document()
    assert prune(d, {1, 3}) == set() and d.json == json.loads(json.dumps(ROOT))
