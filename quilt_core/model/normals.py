"""Normals of placed objects."""

from __future__ import annotations

import numpy as np

from .scene import Floats


def turned_normals(given: Floats, world: Floats) -> Floats | None:
    """Unit normals (..., 3) of an object in the world: they go with the inverse of its placing (4, 4). Zero where one has no length; None where the
    placing flattens the object.

    Parameters
    ----------
    given : (..., 3) in the mesh's own space; world : (4, 4)

    Returns
    -------
    (..., 3) of unit length, or None
    """
    turn = world[:3, :3]
    if abs(np.linalg.det(turn)) < 1e-30:
        return None
    out = given @ np.linalg.inv(turn)
    length = np.linalg.norm(out, axis=-1, keepdims=True)
    return np.where(length > 1e-12, out / np.maximum(length, 1e-12), 0.0)
