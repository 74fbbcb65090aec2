"""Overlap minimisation: islands moved one at a time until none lies in another's padding.

Guided local search (Nielsen and Odgaard 2003; Egeblad, Nielsen and Odgaard 2007; from memory): pairs that stay in
conflict grow heavier round by round, so that the search leaves places where a little overlap would stay for
good. A ring takes along what lies in its hole.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .fields import Ints
from .loss import pair_loss
from .neighbours import clamped, lift, near_to, put, rest

_NONE = 1e-6  # less loss than this is none
_HOPELESS = 8.0  # a sample that costs this many times what the present place does is not looked at further
_DRAWS = 4  # points for each wide sample, of which the clearest is taken
# Among so many islands, one that is wide for its tile has hundreds of neighbours, and each look at it is dear: it stays, and the small ones
# move, but for now and then, or where it lies in another such.
_CROWD, _WIDE_ISLAND, _GIANT = 400, 0.3, 0.05


class Memory(NamedTuple):
    """What a search keeps between calls: weights and losses of pairs (n, n), its random state (1,), counts (2,).

    `heavy` (n,): whether any weight of a row is not 1. Counts: rounds over all islands, evaluations.
    """

    weight: NDArray[np.float32]
    loss: NDArray[np.float32]
    heavy: NDArray[np.bool_]
    random: NDArray[np.uint64]
    counts: Ints


@njit(cache=True, nogil=True, inline="always")  # type: ignore[untyped-decorator]
def _random(state):  # type: ignore[no-untyped-def]
    """The next number in [0, 1): xorshift (Marsaglia 2003)."""
    x = state[0]
    x ^= x << np.uint64(13)
    x ^= x >> np.uint64(7)
    x ^= x << np.uint64(17)
    state[0] = x
    return (x >> np.uint64(11)) * (1.0 / 9007199254740992.0)


@njit(cache=True, nogil=True, fastmath=True)  # type: ignore[untyped-decorator]
def _cost(f, s, at, m, i, x, y, k, t, most, coarse):  # type: ignore[no-untyped-def]
    """Weighted loss of island i at a place against all islands that are not moving; cut short above `most`."""
    e, z = f.extent[i, k], at[i].size
    total = 0.0
    weight, pad = m.weight[i], s.pad
    n = near_to(s, x + e[0] * z - pad, y + e[1] * z - pad, x + e[2] * z + pad, y + e[3] * z + pad, t)
    for q in range(n):
        j = s.near[q]
        o = at[j]
        w = weight[j]
        loss = pair_loss(f, z, i, x, y, k, o.size, j, o.x, o.y, o.pose, pad, (most - total) / w, coarse)
        if loss > 0.0:
            total += loss * w
            if total >= most:
                return total
    return total


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _crew_cost(f, s, at, m, crew, n, rel, x, y, k, t, most, coarse):  # type: ignore[no-untyped-def]
    """Cost of the leader crew[0] at a place together with the islands in its hole, `rel` (n, 2) in its frame."""
    p = f.pose[k]
    turn = f.product[k, f.inverse[at[crew[0]].pose]]
    total = 0.0
    for c in range(n):
        j, xj, yj, kj = crew[c], x, y, k
        if c > 0:
            kj = f.product[turn, at[j].pose]
            if not f.allowed[j, kj]:
                return 1e30
            wx, wy = x + p[0] * rel[c, 0] + p[1] * rel[c, 1], y + p[2] * rel[c, 0] + p[3] * rel[c, 1]
            xj, yj, _ = clamped(f, s, at, j, wx, wy, kj, t)
            total += (abs(wx - xj) + abs(wy - yj)) * 10.0
        if total < most:
            total += _cost(f, s, at, m, j, xj, yj, kj, t, most - total, coarse)
        if total >= most:
            return total
    return total


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _crew_of(f, s, at, i, crew, rel):  # type: ignore[no-untyped-def]
    """Fill `crew` with i and all islands whose middle lies in i's hole; mark them as moving; their number."""
    crew[0] = i
    lift(s, at, i)
    n = 1
    ring, me = f.island[i], at[i]
    if ring.hollow < 0:
        return n
    p, z = f.pose[me.pose], me.size
    for j in range(at.shape[0]):
        o = at[j]
        if j == i or o.tile != me.tile or f.island[j].diameter * o.size >= ring.diameter * z:
            continue
        dx, dy = 0.5 * (o.lx + o.hx) - me.x, 0.5 * (o.ly + o.hy) - me.y
        u = ((p[0] * dx + p[2] * dy) / z - ring.left) / ring.cell
        v = ((p[1] * dx + p[3] * dy) / z - ring.low) / ring.cell
        if u < 0 or v < 0 or u >= ring.wide - 1 or v >= ring.high - 1:
            continue
        if f.grid[ring.hollow + int(v + 0.5) * int(ring.wide) + int(u + 0.5)] <= 0.0:
            continue
        if o.held:
            for c in range(1, n):
                rest(s, at, crew[c])
            return 1
        dx, dy = o.x - me.x, o.y - me.y
        crew[n] = j
        rel[n, 0], rel[n, 1] = p[0] * dx + p[2] * dy, p[1] * dx + p[3] * dy
        lift(s, at, j)
        n += 1
    return n


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _refine(f, s, at, m, crew, n, rel, place, step, least, turning, beat):  # type: ignore[no-untyped-def]
    """Coordinate descent from place (x, y, pose, tile, cost) along the axes and diagonals, in place.

    The step halves where neither way is better. It is given up after a few tries above the cost `beat`. A negative cost is not known yet. With `turning` the poses next to
    the present one are tried too (for islands with many poses). Returns the number of evaluations.
    """
    i = crew[0]
    a, count = f.island[i].choice, f.island[i].choices
    t = int(place[3])
    tries = back = 0
    turn = max(1, count // 16)
    better = False
    way = -1
    dx = dy = 0.0
    while place[4] < 0.0 or ((tries < 9 or place[4] < beat) and (step >= least and place[4] > 0.0)):
        x, y, k = place[0], place[1], int(place[2])
        fits = True
        if place[4] >= 0.0:
            if back == 0:
                way = int(_random(m.random) * (5 if turning else 4))
                dx, dy = step, 0.0
                if way == 1:
                    dx, dy = 0.0, step
                elif way == 2:
                    dx, dy = step * 0.71, step * 0.71
                elif way == 3:
                    dx, dy = step * 0.71, -step * 0.71
                if _random(m.random) < 0.5:
                    dx, dy = -dx, -dy
            if way == 4:
                q = 0
                while f.choice[a + q] != k:
                    q += 1
                k = f.choice[a + (q + (turn if dx + dy > 0 else -turn)) % count]
                x, y, fits = clamped(f, s, at, i, x, y, k, t)
            else:
                x, y, _fits = clamped(f, s, at, i, x + dx, y + dy, k, t)
                fits = x != place[0] or y != place[1]
        c = 1e30
        if fits:
            c = _crew_cost(f, s, at, m, crew, n, rel, x, y, k, t, 1e30 if place[4] < 0.0 else place[4], False)
            tries += 1
        if place[4] < 0.0:
            place[4] = c
            continue
        better = c < place[4]
        if better:
            place[0], place[1], place[2], place[4] = x, y, k, c
            step *= 1.1
            back = 0
        elif back == 0:
            back = 1
            dx, dy = -dx, -dy
        else:
            back = 0
            if way == 4:
                turn = max(1, turn // 2)
                step *= 0.8
            else:
                step *= 0.5
    return tries


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _losses_of(f, s, at, i, out):  # type: ignore[no-untyped-def]
    """Unweighted losses of island i against every other, into out (n,); their sum."""
    total = 0.0
    me, pad = at[i], s.pad
    out[:] = 0.0
    n = near_to(s, me.lx - pad, me.ly - pad, me.hx + pad, me.hy + pad, me.tile)
    for q in range(n):
        j = s.near[q]
        o = at[j]
        if j == i or (me.held and o.held):
            continue
        out[j] = pair_loss(f, me.size, i, me.x, me.y, me.pose, o.size, j, o.x, o.y, o.pose, pad, 1e30, False)
        total += out[j]
    return total


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _settle(f, s, at, m, sums, j, line):  # type: ignore[no-untyped-def]
    """Bring the losses of an island that moved up to date."""
    total = _losses_of(f, s, at, j, line)
    for q in range(at.shape[0]):
        if line[q] != m.loss[j, q]:
            sums[q] += line[q] - m.loss[j, q]
            m.loss[j, q] = m.loss[q, j] = line[q]
    sums[j] = total


@njit(cache=True, nogil=True, fastmath=True)  # type: ignore[untyped-decorator]
def _clearance(f, s, at, x, y, t):  # type: ignore[no-untyped-def]
    """Roughly how far a point is from all islands that are not moving; negative inside one; at most 1e9."""
    clear = 1e9
    n = near_to(s, x, y, x, y, t)
    for q in range(n):
        j = s.near[q]
        o = at[j]
        b, p = f.island[j], f.pose[o.pose]
        dx, dy = (x - o.x) / o.size, (y - o.y) / o.size
        u, v = (p[0] * dx + p[2] * dy - b.left) / b.cell, (p[1] * dx + p[3] * dy - b.low) / b.cell
        if u > 0 and v > 0 and u < b.wide - 1 and v < b.high - 1:
            clear = min(clear, f.grid[b.at + int(v + 0.5) * int(b.wide) + int(u + 0.5)] * o.size)
    return clear


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _sample(f, s, at, m, i, wide, out):  # type: ignore[no-untyped-def]
    """A random place (x, y, pose, tile) for island i, anywhere or near where it is; whether there is room."""
    k, t = at[i].pose, at[i].tile
    many = f.island[i].choices
    if wide or _random(m.random) > 0.6:
        q = int(_random(m.random) * many)
        if many > 8 and _random(m.random) < 0.7:
            q = int(_random(m.random) * 4) * (many // 4)
        k = f.choice[f.island[i].choice + q]
    if wide:
        t = int(_random(m.random) * s.side.shape[0])
        e, z = f.extent[i, k], at[i].size
        lx, hx = s.margin - e[0] * z, s.side[t] - s.margin - e[2] * z
        ly, hy = s.margin - e[1] * z, s.side[t] - s.margin - e[3] * z
        fits = hx >= lx and hy >= ly
        x = y = 0.0
        clear = -1e30
        for _ in range(_DRAWS):
            dx, dy = lx + _random(m.random) * (hx - lx), ly + _random(m.random) * (hy - ly)
            c = _clearance(f, s, at, dx, dy, t)
            if c > clear:
                x, y, clear = dx, dy, c
    else:
        reach = 0.6 * f.island[i].diameter * at[i].size
        x, y = at[i].x + (_random(m.random) - 0.5) * reach, at[i].y + (_random(m.random) - 0.5) * reach
        x, y, fits = clamped(f, s, at, i, x, y, k, t)
    out[0], out[1], out[2], out[3], out[4] = x, y, k, t, -1.0
    return fits


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _best_move(f, s, at, m, crew, n, rel, wide, near, least, best):  # type: ignore[no-untyped-def]
    """The best place found for the crew: `wide` samples of all tiles, `near` samples nearby, the best three refined.

    best (5,): x, y, pose, tile, cost; where it is when nothing is better. Returns the number of evaluations.
    """
    i = crew[0]
    reach = f.island[i].diameter * at[i].size
    turning = f.island[i].choices > 8
    found, trial = np.empty((4, 5)), np.empty(5)
    # First from where it is: most conflicts after a small step of the side are solved there.
    best[0], best[1], best[2], best[3], best[4] = at[i].x, at[i].y, at[i].pose, at[i].tile, -1.0
    tries = _refine(f, s, at, m, crew, n, rel, best, 0.05 * reach, 2.0 * least, False, 1e30)
    if best[4] <= 0.0:
        return tries
    found[:, 4] = _HOPELESS * best[4]
    for q in range(wide + near):
        if not _sample(f, s, at, m, i, q < wide, trial):
            continue
        c = _crew_cost(f, s, at, m, crew, n, rel, trial[0], trial[1], int(trial[2]), int(trial[3]), found[2, 4], True)
        tries += 1
        if c < found[2, 4]:
            p = 2
            while p > 0 and found[p - 1, 4] > c:
                found[p] = found[p - 1]
                p -= 1
            found[p, :4], found[p, 4] = trial[:4], c
    limit = _HOPELESS * best[4]
    for q in range(4):
        # The best samples, at last once more finely the best of these.
        step, finest = 0.1 * reach, 2.0 * least
        if q < 3:
            if found[q, 4] >= limit:
                continue
            trial[:4], trial[4] = found[q, :4], -1.0
        else:
            trial[:] = best
            step, finest = 4.0 * least, 0.5 * least
        tries += _refine(f, s, at, m, crew, n, rel, trial, step, finest, turning, 1.6 * best[4])
        if trial[4] < best[4]:
            best[:] = trial
        if best[4] <= 0.0:
            break
    return tries


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _move(f, s, at, crew, n, rel, best):  # type: ignore[no-untyped-def]
    i = crew[0]
    k, t = int(best[2]), int(best[3])
    turn = f.product[k, f.inverse[at[i].pose]]
    p = f.pose[k]
    put(f, s, at, i, best[0], best[1], k, t)
    for c in range(1, n):
        j = crew[c]
        kj = f.product[turn, at[j].pose]
        x, y = best[0] + p[0] * rel[c, 0] + p[1] * rel[c, 1], best[1] + p[2] * rel[c, 0] + p[3] * rel[c, 1]
        x, y, _ = clamped(f, s, at, j, x, y, kj, t)
        put(f, s, at, j, x, y, kj, t)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _dear(m, giant, i):  # type: ignore[no-untyped-def]
    """Whether a giant lies in another one."""
    deep = np.float32(0.0)
    for j in range(giant.shape[0]):
        if giant[j]:
            deep = max(deep, m.loss[i, j])
    return deep > _NONE


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def separate(f, s, at, m, least, enough, evaluations, wide, near, stop, least_at):  # type: ignore[no-untyped-def]
    """Move islands until the sum of all losses is at most `enough`, or `evaluations` are used up.

    Parameters
    ----------
    f, s, at, m : Fields, Scene, spots (n,) (changed), Memory (changed)
    least : units, the finest step
    stop : (1,) int; another thread may set it
    least_at : (n,) spots, the layout of least loss of this call

    Returns the loss at the end, the least loss, and the evaluations made.
    """
    n = at.shape[0]
    sums, line = np.zeros(n), np.zeros(n, np.float32)
    crew, rel, order, best = np.empty(n, np.int64), np.zeros((n, 2)), np.empty(n, np.int64), np.zeros(5)
    for i in range(n):
        x, y, k, t = at[i].x, at[i].y, at[i].pose, at[i].tile
        if not at[i].held:
            x, y, _ = clamped(f, s, at, i, x, y, k, t)
        put(f, s, at, i, x, y, k, t)
    m.loss[:] = 0.0
    giant = np.zeros(n, np.bool_)
    if n >= _CROWD:
        for i in range(n):
            giant[i] = f.island[i].diameter * at[i].size > _WIDE_ISLAND * s.side[at[i].tile]
    for i in range(n):
        _settle(f, s, at, m, sums, i, line)
    used, least_loss, total = 0, 1e30, 0.0
    # With many islands a round is long, and weights that grow fast would push whole regions about.
    growth, most = (1.2, 0.8) if n < 400 else (1.08, 0.35)
    while True:
        total = 0.5 * sums.sum()
        if total < least_loss:
            least_loss = total
            least_at[:] = at
        if total <= enough or used >= evaluations or stop[0] != 0:
            break
        count = 0
        for i in range(n):
            if sums[i] > _NONE and not at[i].held:
                order[count] = i
                count += 1
        for a in range(count - 1, 0, -1):
            b = int(_random(m.random) * (a + 1))
            order[a], order[b] = order[b], order[a]
        for a in range(count):
            i = order[a]
            if sums[i] <= _NONE or (giant[i] and not _dear(m, giant, i) and _random(m.random) > _GIANT):
                continue
            members = _crew_of(f, s, at, i, crew, rel)
            if members > 1 and _random(m.random) < 0.25:
                # Now and then the ring alone: what is in its hole may have to go elsewhere.
                for c in range(1, members):
                    rest(s, at, crew[c])
                members = 1
            used += _best_move(f, s, at, m, crew, members, rel, wide, near, least, best)
            if best[0] != at[i].x or best[1] != at[i].y or best[2] != at[i].pose or best[3] != at[i].tile:
                _move(f, s, at, crew, members, rel, best)
                for c in range(members):
                    _settle(f, s, at, m, sums, crew[c], line)
            else:
                for c in range(members):
                    rest(s, at, crew[c])
            if used >= evaluations * 1.2 or stop[0] != 0:
                break
        _reweigh(m, sums, growth, most)
        m.counts[0] += 1
    m.counts[1] += used
    return total, least_loss, used


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _reweigh(m, sums, growth, most):  # type: ignore[no-untyped-def]
    """Pairs in conflict grow heavier by `growth`, the worst by up to `most` more; the others fade by 5 %. Sums are made exact."""
    n = sums.shape[0]
    worst = 0.0
    for i in range(n):
        if sums[i] > _NONE:
            for j in range(n):
                worst = max(worst, m.loss[i, j])
    for i in range(n):
        if sums[i] <= _NONE and not m.heavy[i]:
            continue
        total = 0.0
        heavy = False
        for j in range(n):
            loss = m.loss[i, j]
            if loss > _NONE:
                total += loss
                m.weight[i, j] = min(1e9, m.weight[i, j] * (growth + most * loss / worst))
                heavy = True
            elif m.weight[i, j] > 1.0:
                m.weight[i, j] = max(1.0, m.weight[i, j] * 0.95)
                heavy = True
        m.heavy[i] = heavy
        sums[i] = total


def memory(count: int, seed: int) -> Memory:
    """A fresh memory for `count` islands."""
    mixed = (seed * 0x9E3779B97F4A7C15 + 0x2545F4914F6CDD1D) % (1 << 64) | 1
    ones, zeros = np.ones((count, count), np.float32), np.zeros((count, count), np.float32)
    return Memory(ones, zeros, np.ones(count, np.bool_), np.array([mixed], np.uint64), np.zeros(2, np.int64))
