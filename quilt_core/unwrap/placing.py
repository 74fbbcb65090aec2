"""Where one surface lies on another: the similarity that lays it there, turned, scaled, mirrored."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import permutations, product

import numpy as np
from scipy.spatial import cKDTree

from ..model.scene import Floats
from .topology import Numbers, Surface

NEAR = 2e-4  # of the diagonal: how far a point may lie from the one that it is to be
_SAMPLE = 400  # points that a turn is tried with first
_PLACES, _DENSE = 2000, 30_000  # places of surfaces that are laid over each other, and of the one that lies still
_FAR = 0.15  # of the diagonal: what is farther away than that is not looked for
_HOPELESS = 0.08  # of the diagonal: surfaces that are so far apart on the mean are of two shapes
_ROUNDS = 30  # of laying surfaces nearer to each other


@dataclass(frozen=True)
class Placing:
    """The similarity that lays one set of points on another: turn (3, 3) with the scale in it, then shift (3,)."""

    turn: Floats
    shift: Floats

    def __call__(self, points: Floats) -> Floats:
        """Points (n, 3) where they come to lie."""
        return np.asarray(points @ self.turn.T + self.shift)

    @property
    def mirrored(self) -> bool:
        """Whether it makes the mirror image."""
        return bool(np.linalg.det(self.turn) < 0)


def laid_on(one: Floats, two: Floats) -> Placing:
    """The similarity that lays points (n, 3) on others (m, 3): tried are the turns by right angles and those that lay the main axes onto each other, with
    their mirror images, turns first; the best is moved nearer to the nearest points (iterated closest points, Besl and McKay 1992, from memory; the
    farther ones left out)."""
    a, b = one.mean(axis=0), two.mean(axis=0)
    size_a, size_b = (max(float(np.sqrt(((p - p.mean(axis=0)) ** 2).sum(axis=1).mean())), 1e-300) for p in (one, two))
    scale, tree = size_a / size_b, cKDTree(one)
    near = NEAR * float(np.linalg.norm(np.ptp(one, axis=0)))
    sample = (two - b)[:: max(1, len(two) // _SAMPLE)] * scale
    best, turn = (-1.0, -np.inf), np.eye(3)
    for t in _turns(two - b, one - a):
        far = np.minimum(tree.query(sample @ t.T + a, distance_upper_bound=50 * near)[0], 50 * near)
        # So many lie where they should; of equals the one whose points lie nearest.
        found = (float((far <= near).mean()), -float(far.mean()))
        if found > best:
            best, turn = found, t
        if best[0] == 1:
            break
    return _refined(one, two, Placing(scale * turn, a - b @ (scale * turn).T), tree, near)


def _refined(
    one: Floats, two: Floats, placing: Placing, tree: cKDTree, near: float, rounds: int = 8, share: float = 0.6, sized: bool = True,
    bound: float = np.inf,
) -> Placing:  # fmt: skip
    size = float(np.cbrt(abs(np.linalg.det(placing.turn))))
    for _ in range(rounds):
        far, to = tree.query(placing(two), distance_upper_bound=bound)
        seen = np.isfinite(far)
        if not seen.any():
            break
        use = far <= max(float(np.quantile(far[seen], share)), 0.1 * near)
        if use.sum() < 4 or far[use].max() < 1e-3 * near:
            break
        goal, own = one[to[use]], two[use]
        mg, mo = goal.mean(axis=0), own.mean(axis=0)
        u, s, vt = np.linalg.svd((goal - mg).T @ (own - mo))
        sign = np.array([1.0, 1.0, np.sign(np.linalg.det(u @ vt)) * (-1.0 if placing.mirrored else 1.0)])
        # Umeyama 1991 (from memory): the least squares similarity, of the handedness that it had.
        scale = float((s * sign).sum() / max(((own - mo) ** 2).sum(), 1e-300)) if sized else size
        if not scale > 0:
            break
        turn = scale * (u * sign) @ vt
        placing = Placing(turn, mg - turn @ mo)
    return placing


def _turns(a: Floats, b: Floats) -> list[Floats]:
    """Turns (3, 3) that may lay one set of points on another, the least first; then mirror images."""
    axes = np.eye(3)
    found = [
        np.asarray(axes[list(order)] * np.array(s)[:, None]) for order in permutations(range(3)) for s in product((1.0, -1.0), repeat=3)
    ]
    main_a, main_b = np.linalg.eigh(a.T @ a)[1], np.linalg.eigh(b.T @ b)[1]
    found += [main_b @ np.diag(s) @ main_a.T for s in product((1.0, -1.0), repeat=3)]
    found.sort(key=lambda t: (np.linalg.det(t) < 0, -float(np.trace(t))))
    return found


def sampled(s: Surface, faces: Numbers, count: int) -> tuple[Numbers, Floats]:
    """About as many places as are wished, spread over some faces (k,) by their area, at least one on each: their faces (n,), and where they are (n, 3)."""
    share = s.area[faces] / max(float(s.area[faces].sum()), 1e-300)
    each = np.minimum(1 + (share * count).astype(np.int64), 4000)
    of = np.repeat(faces, each)
    # A regular pattern in each triangle, the same every time (Roberts' R2 sequence, from memory).
    k = np.arange(len(of)) - np.repeat(np.cumsum(each) - each, each)
    a, b = (0.5 + 0.7548776662466927 * k) % 1, (0.5 + 0.5698402909980532 * k) % 1
    over = a + b > 1
    a, b = np.where(over, 1 - a, a), np.where(over, 1 - b, b)
    p = s.points[s.faces[of]]
    return of, np.asarray(p[:, 0] + a[:, None] * (p[:, 1] - p[:, 0]) + b[:, None] * (p[:, 2] - p[:, 0]))


def laid_over(one: Surface, two: Surface, start: Placing) -> Placing:
    """The similarity that lays a surface over another one whatever triangles they have: from where `start` has it, or from their main axes."""
    tree = cKDTree(still := sampled(one, np.arange(len(one.faces)), _DENSE)[1])
    places = sampled(two, np.arange(len(two.faces)), _DENSE)[1]
    places = places[:: max(1, len(places) // _PLACES)]
    (a, spread_a), (b, spread_b) = _moments(one), _moments(two)
    scale = float(np.sqrt(np.trace(spread_a) / max(np.trace(spread_b), 1e-300)))
    main_a, main_b = np.linalg.eigh(spread_a)[1], np.linalg.eigh(spread_b)[1]
    turns = [main_a @ np.diag(s) @ main_b.T for s in product((1.0, -1.0), repeat=3)]
    tried = [
        start,
        *(Placing(scale * t, a - b @ (scale * t).T) for t in sorted(turns, key=lambda t: (np.linalg.det(t) < 0, -float(np.trace(t))))),
    ]

    size_one = float(np.linalg.norm(np.ptp(one.points, axis=0)))
    # To look for what is nearest to a place that nothing is near to takes long, and says nothing.
    bound = _FAR * size_one

    def off(p: Placing) -> float:
        return float(np.minimum(tree.query(p(places), distance_upper_bound=bound)[0], bound).mean())

    best = sorted(tried, key=off)[:4]
    if off(best[0]) > _HOPELESS * size_one:
        return start
    return min((_refined(still, places, p, tree, NEAR * size_one, _ROUNDS, 0.95, False, bound) for p in best), key=off)


def _moments(s: Surface) -> tuple[Floats, Floats]:
    """The middle (3,) of a surface and its second moments (3, 3) about it, over its area."""
    p = s.points[s.faces]
    weight = s.area / max(float(s.area.sum()), 1e-300)
    middle = (weight[:, None] * p.mean(axis=1)).sum(axis=0)
    q = p - middle
    # Of a triangle: the sum of the corners' own and of the middle's, by twelve (arithmetic).
    own = np.einsum("f,fki,fkj->ij", weight, q, q) + 9 * np.einsum("f,fi,fj->ij", weight, q.mean(axis=1), q.mean(axis=1))
    return middle, own / 12
