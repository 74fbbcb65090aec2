"""The bleed proof against arithmetic, and against a plain one that paints colours and averages them."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from quilt_core.measure.bleed import bleed, thumb
from quilt_core.measure.texels import dilated, owners
from quilt_core.uv.analysis import MeshIslands

from .test_faults import pieces_of, squares


def proof(pieces: list[MeshIslands], px: int, **more: object):
    regions = np.concatenate([p.outlines.regions for p in pieces])
    return bleed(pieces, None, regions, px, 4.0, **more)  # type: ignore[arg-type]


@pytest.mark.reference("The bleed of two islands p texels apart", "arithmetic")
@pytest.mark.parametrize("gap", [2, 4, 8, 16, 32])
def test_two_islands_p_texels_apart(gap: int) -> None:
    """Arithmetic: the border between the two paddings lies p / 2 from each edge. With edges on multiples of p a bilinear sample at an edge reaches
    one mip texel beyond it: 2^k <= p / 2 stays on its own side, at 2^k = p half of that texel is foreign, with a weight of a half."""
    px = 256
    pieces = pieces_of(squares([(0.25, 0.25, 0.5, 0.5), (0.5 + gap / px, 0.25, 0.75 + gap / px, 0.5)]))
    found = proof(pieces, px)
    assert found.level.tolist() == [int(np.log2(gap))] * 2 and found.clean == int(np.log2(gap)) - 1
    assert found.share[0] == pytest.approx(0.25, abs=0.01) and found.other.tolist() == [1, 0]
    assert found.at[0, 0] == pytest.approx(0.5) and found.at[1, 0] == pytest.approx(0.5 + gap / px)


def test_the_rule_of_thumb() -> None:
    """Common practice, no source: floor(log2 padding)."""
    assert [thumb(p) for p in (0, 0.5, 1, 2, 7.9, 8, 16)] == [-1, -1, 0, 1, 2, 3, 4]


def test_a_lone_island_and_twins_never_bleed() -> None:
    alone = proof(pieces_of(squares([(0.2, 0.2, 0.4, 0.4)])), 64)
    assert alone.level.tolist() == [-1] and alone.clean == alone.levels - 1 == 6
    boxes = [(0.2, 0.2, 0.4, 0.4), (0.2, 0.2, 0.4, 0.4), (2.0, 0.0, 2.5, 0.5)]
    twins = proof(pieces_of(squares(boxes)), 64, twins=np.array([3, 3, -1]))
    assert twins.level.tolist() == [-1, -1, -2] and twins.twice == 0
    apart = proof(pieces_of(squares(boxes)), 64)
    assert apart.twice == 13 * 13 and apart.clean == -1, "0.2 x 64 = 12.8: texels 13 to 25 have their middle inside"


def test_a_tile_of_its_own_is_proven_alone() -> None:
    pieces = pieces_of(squares([(0.9, 0.2, 0.99, 0.4), (1.01, 0.2, 1.4, 0.4)]))
    assert proof(pieces, 64).level.tolist() == [-1, -2] and proof(pieces, 64, corner=(1, 0)).level.tolist() == [-2, -1]
    assert proof(pieces, 64, only=np.array([False, True]), corner=(1, 0)).level.tolist() == [-2, -1]


def plain(map_: np.ndarray, x: float, y: float, mine: int, level: int) -> float:
    """The share of other colours in one bilinear sample: a picture for each colour, averaged and sampled in the plainest way."""
    px = map_.shape[0]
    count = max(1, px >> level)
    size = px / count
    foreign = ((map_ >= 0) & (map_ != mine)).astype(float)
    edge, texel = np.arange(count + 1) * size, np.arange(px)
    part = np.clip(np.minimum(edge[1:, None], texel + 1) - np.maximum(edge[:-1, None], texel), 0, None) / size
    mip = part @ foreign @ part.T
    u, v = x / size - 0.5, y / size - 0.5
    c, r = int(np.floor(u)), int(np.floor(v))
    out = 0.0
    for dr in (0, 1):
        for dc in (0, 1):
            w = (u - c if dc else 1 - (u - c)) * (v - r if dr else 1 - (v - r))
            out += w * mip[np.clip(r + dr, 0, count - 1), np.clip(c + dc, 0, count - 1)]
    return out


@pytest.mark.reference(
    "Mip chain: levels averaged and sampled", "a plain painting of colours, averaged by the standards of Vulkan and OpenGL"
)
@settings(deadline=None, max_examples=25)
@given(
    st.lists(
        st.tuples(st.integers(0, 3), st.integers(0, 3), st.floats(0.02, 0.2), st.floats(0.02, 0.2)),
        min_size=2,
        max_size=6,
        unique_by=lambda b: b[:2],
    ),
    st.sampled_from([32, 24, 30, 37]),
)
def test_against_painting_and_averaging(places: list[tuple[int, int, float, float]], px: int) -> None:
    """Sizes that are no powers of two have the mip chain that graphics standards define: level k has max(1, floor(size / 2^k)) texels (Vulkan 1.3,
    "Image Mip Level Sizing"; from memory)."""
    boxes = [(0.25 * c + 0.02, 0.25 * r + 0.02, 0.25 * c + 0.02 + w, 0.25 * r + 0.02 + h) for c, r, w, h in places]
    pieces = pieces_of(squares(boxes))
    regions = np.concatenate([p.outlines.regions for p in pieces])
    found = bleed(pieces, None, regions, px, 4.0)
    uvs = np.concatenate([p.uvs for p in pieces])
    triangles = np.concatenate([p.mesh.channels[0].triangles for p in pieces])
    number = np.concatenate([p.islands.of_triangle for p in pieces])
    map_, _, _ = dilated(owners(uvs, triangles, number, px)[0])
    for i, region in enumerate(regions):
        assert found.thin[i] == (not (map_ == i).any()), "they do not overlap, so who covers the middle of a texel owns it"
        if found.thin[i]:
            assert found.level[i] == -1
            continue
        line = shapely.segmentize(region, 0.5 / px)
        points = shapely.get_coordinates(line)
        first = -1
        for level in range(px.bit_length()):
            worst = max(plain(map_, u * px, (1 - v) * px, i, level) for u, v in points)
            if worst > 0.02:
                first = level
                break
        assert found.level[i] == first


def test_the_owner_is_the_one_with_most_of_the_texels() -> None:
    """Around a square in the middle stand a wide one on its left and a thin one on its right: what it gets is the wide one's."""
    pieces = pieces_of(squares([(0.45, 0.4, 0.55, 0.6), (0.05, 0.1, 0.4, 0.9), (0.62, 0.49, 0.63, 0.51)]))
    found = proof(pieces, 96)
    assert found.level[0] > 0 and found.other[0] == 1 and found.levels == 7


def test_texels_belong_to_one_of_two_triangles_on_a_shared_edge() -> None:
    """Every middle inside a square is covered exactly once, whatever its diagonal; a middle on an outer edge at most once."""
    px = 16
    for diagonal in ([[0, 1, 2], [0, 2, 3]], [[0, 1, 3], [1, 2, 3]]):
        uvs = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], float) * 0.5 + 1 / 32
        map_, twice = owners(uvs, np.array(diagonal), np.array([0, 1]), px)
        assert (map_ >= 0).sum() == 64 and not twice.any()
    assert (dilated(map_, 2.0)[0] >= 0).sum() < px * px and (dilated(map_)[0] >= 0).all()
    assert (dilated(np.full((4, 4), -1, np.int32))[0] < 0).all()


def test_islands_that_cover_no_texel_are_named_and_the_rest_is_judged() -> None:
    """Slivers a tenth of a texel wide between two large islands own no texel (arithmetic): no padding would help, and the others are clean as without them."""
    px = 256
    large = [(0.125, 0.25, 0.375, 0.75), (0.625, 0.25, 0.875, 0.75)]
    thin = [((40 + 20 * k + 0.2) / px, 0.05, (40 + 20 * k + 0.3) / px, 0.2) for k in range(6)]
    alone, found = proof(pieces_of(squares(large)), px), proof(pieces_of(squares(large + thin)), px)
    assert (
        found.thin.tolist() == [False, False] + [True] * 6
        and found.clean == alone.clean
        and found.level[:2].tolist() == alone.level.tolist()
    )
