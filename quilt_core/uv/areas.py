"""Areas of triangles in the UV plane."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..model.scene import Floats


def triangle_areas(uvs: Floats, triangles: NDArray[np.integer]) -> Floats:
    """Signed area (T,) of triangles in the plane, positive when counter-clockwise.

    Parameters
    ----------
    uvs : (W, 2); triangles : (T, 3) rows

    Returns
    -------
    (T,) of the unit tile
    """
    return signed_areas(uvs[triangles])


def signed_areas(corners: Floats) -> Floats:
    """The same for triangles by their corners (T, 3, 2)."""
    a, b, c = (corners[:, k] for k in range(3))
    return np.asarray(0.5 * ((b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])))
