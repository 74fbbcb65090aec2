"""Packing real islands against a general-purpose packer, in one run. `python -m bench.pack [plain|rings|all|maps|free|tiles|held|large|steady ...]`.

Every layout is proven again here, by shapely on the polygons, apart from the packer. A machine of 2 cores is assumed.
"""

from __future__ import annotations

import os
import resource
import sys
import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import shapely
from numpy.typing import NDArray

from quilt_core.pack import Packing, PackResult, Recipe, Rules, Start, pack
from quilt_core.uv.analysis import transform_regions

from .sets import CHOSEN_ON, PLAIN, REPORTED, RINGS, IslandSet, all_models, regions
from .strip import square


def placed(islands: NDArray[np.object_], p: Packing) -> NDArray[np.object_]:
    """Islands (n,) where a layout puts them."""
    return transform_regions(islands, np.column_stack([p.angle, p.mirror, p.scale, p.offset]))


def proof(islands: NDArray[np.object_], recipe: Recipe, p: Packing) -> float:
    """The smallest gap in px of a layout in one tile; fails where it breaks padding or margin."""
    done = placed(islands, p)
    tree = shapely.STRtree(done)
    i, j = tree.query(done, predicate="dwithin", distance=(recipe.padding_px + 0.5) / recipe.map_px)
    use = (i < j) & (p.tile[i] == p.tile[j])  # tiles are maps of their own: nothing is asked across their border
    gap = float((shapely.distance(done[i[use]], done[j[use]]) * recipe.map_px).min(initial=np.inf))
    box = shapely.total_bounds(done)
    margin = min(box[0], box[1], recipe.columns - box[2], recipe.rows - box[3]) * recipe.map_px
    assert gap >= recipe.padding_px - 1e-3 and margin >= recipe.margin_px - 1e-3, (gap, margin)
    return gap


def run(chosen: IslandSet, islands: NDArray[np.object_], rules: Rules | None = None, **more: object) -> tuple[Recipe, PackResult]:
    """Pack a set and prove the result."""
    recipe = replace(Recipe(chosen.map_px, chosen.padding_px, 0.0, seconds=chosen.seconds), **more)  # type: ignore[arg-type]
    result = pack(islands, recipe, rules=rules)
    if rules is None:
        proof(islands, recipe, result.best)
    return recipe, result


def bound(islands: NDArray[np.object_]) -> float:
    """Coverage that the longest island allows in turns of 90 degrees."""
    box = shapely.bounds(islands)
    return min(1.0, float(shapely.area(islands).sum()) / float(np.maximum(box[:, 2] - box[:, 0], box[:, 3] - box[:, 1]).max()) ** 2)


def reference(islands: NDArray[np.object_], s: IslandSet) -> float:
    """Coverage of the reference packer; NaN where it cannot take the islands (it panics on outlines thinner than it can offset)."""
    try:
        return square(islands, s.padding_px / s.map_px, s.seconds)
    except BaseException as e:
        if isinstance(e, KeyboardInterrupt | SystemExit):
            raise
        return float("nan")


def against(sets: tuple[IslandSet, ...]) -> None:
    """Ours and spyrrow's coverage for each set."""
    print("set         islands  bound   first (seconds)    ours  spyrrow   points", flush=True)
    points = []
    for s in sets:
        islands = regions(s)
        cpu = time.process_time()
        _, result = run(s, islands)
        cpu = time.process_time() - cpu
        first = result.history[0]
        line = f"{s.name:12} {len(islands):6} {bound(islands):6.3f}   {first[1]:.3f} ({first[0]:4.2f})   {result.best.coverage:.4f}"
        other = reference(islands, s) if "--alone" not in sys.argv else float("nan")
        points.append(100 * (result.best.coverage - other))
        print(f"{line}   {other:.4f}   {points[-1]:+.1f}   ({cpu:.0f} CPU s)", flush=True)
    print(f"median {np.nanmedian(points):+.1f} points, least {np.nanmin(points):+.1f}")


def maps() -> None:
    """The same islands on larger maps with the padding that corresponds."""
    for s in (PLAIN[0], RINGS[0]):
        islands = regions(s)
        for k in (1, 4, 8):
            _, result = run(s, islands, map_px=512 * k, padding_px=1.0 * k)
            print(
                f"{s.name:12} {512 * k:5} px, padding {k}: {result.best.coverage:.4f}, first after {result.history[0][0]:.2f} s", flush=True
            )


def free() -> None:
    """Turning freely against steps of 90 degrees."""
    for s in (*PLAIN, RINGS[0], IslandSet("trigger", "webxr", ("htc-vive-focus-3/left.glb",))):
        islands = regions(s)
        steps, turned = (run(s, islands, rotate=r)[1].best.coverage for r in ("90", "free"))
        print(f"{s.name:12} bound {bound(islands):.3f}  90: {steps:.4f}  free: {turned:.4f}  {100 * (turned - steps):+.1f}", flush=True)


def tiles() -> None:
    """Four tiles with one scale; tiles of different resolution at a held density."""
    s = replace(PLAIN[1], files=PLAIN[1].files + PLAIN[2].files + PLAIN[3].files)
    islands = regions(s)
    one = run(s, islands)[1].best
    _, four = run(s, islands, columns=2, rows=2, map_px=256)
    print(f"one tile of 512 px {one.coverage:.4f}, four of 256 px {four.best.coverage:.4f}", flush=True)
    for count, px in ((1, (512,)), (2, (512, 256)), (4, (512, 256, 256, 128))):
        share = sum(p * p for p in px) / 512**2
        # The density that a coverage of 0.70 asks for.
        scale = np.sqrt(0.70 * share / float(shapely.area(islands).sum()))
        sized = shapely.transform(islands, lambda xy, k=scale: xy * k)
        recipe = Recipe(512, 1.0, 0.0, columns=count, density=100.0, tile_px=px, seconds=s.seconds)
        try:
            found = pack(sized, recipe)
            print(f"{count} tiles {px}: held density at coverage {found.best.coverage:.4f} after {found.history[-1][0]:.1f} s", flush=True)
        except Exception as e:
            print(f"{count} tiles {px}: {e}", flush=True)


def held() -> None:
    """A fifth of the islands held where a kept try put them: the others' places unknown, and known."""
    for s in PLAIN[:3]:
        islands = regions(s)
        recipe, before = run(s, islands)
        done = placed(islands, before.best)
        stay = np.arange(len(islands)) % 5 == 0
        again = np.where(stay, done, shapely.transform(islands, lambda xy, k=before.best.common: xy * k))
        unknown = pack(again, recipe, rules=Rules(held=stay))
        box = shapely.bounds(done)
        start = Start(0.5 * (box[:, :2] + box[:, 2:]), 1.0, alone=False)
        known = pack(done, recipe, rules=Rules(held=stay, start=start))
        for islands_in, result in ((again, unknown), (done, known)):
            proof(islands_in, recipe, result.best)
        print(
            f"{s.name:12} free {before.best.coverage:.4f}, a fifth held {unknown.best.coverage:.4f}, the layout known {known.best.coverage:.4f}",
            flush=True,
        )


def heap(count: int, seed: int = 0) -> NDArray[np.object_]:
    """Boxes and circles of sizes that vary tenfold."""
    random = np.random.default_rng(seed)
    size = 10 ** random.uniform(-0.5, 0.5, (count, 2))
    boxes = shapely.box(0, 0, size[:, 0], size[:, 1])
    return np.where(random.random(count) < 0.5, boxes, shapely.buffer(shapely.points(np.zeros((count, 2))), size[:, 0] / 2, quad_segs=6))


def large() -> None:
    """First layouts of many islands, and the stress file."""
    for count, map_px in ((1000, 1024), (10_000, 4096)):
        islands = heap(count)
        recipe = Recipe(map_px, 2.0, 0.0, seconds=0.0)
        begin = time.perf_counter()
        result = pack(islands, recipe)
        print(f"{count} islands: first {time.perf_counter() - begin:.2f} s at {result.best.coverage:.3f}", flush=True)
    from quilt_cli import files
    from quilt_core.arrange.sheet import pack_sheet
    from quilt_core.delivery.report import analyse_all, pieces_of
    from quilt_core.measure.proof import prove
    from tests.real_files import path

    begin = time.perf_counter()
    pieces = pieces_of(analyse_all([files.read(path("pybullet", "samurai_monastry.obj"), 1.0)], 0))
    read = time.perf_counter() - begin
    packed = pack_sheet(pieces, Recipe(2048, 8.0, 4.0, seconds=0.0))
    first = time.perf_counter() - begin
    found = prove(pieces, packed.transforms, 2048)
    print(
        f"samurai: {found.islands} islands read {read:.1f} s, packed {first:.1f} s, proven {time.perf_counter() - begin:.1f} s, "
        f"coverage {packed.result.best.coverage:.3f}, gap {found.gap_px:.3f} px, {found.overlap_pairs} overlaps"
    )


def steady(chosen: tuple[IslandSet, ...], seconds: tuple[float, ...], seeds: int) -> None:
    """How far runs of one set differ over seeds: least, median and greatest coverage, against the reference in the same run."""
    for s in chosen:
        islands = regions(s)
        other = reference(islands, s) if "--alone" not in sys.argv else float("nan")
        for t in seconds:
            found, late = [], 0.0
            for seed in range(seeds):
                begin = time.monotonic()
                found.append(run(s, islands, seconds=t, seed=seed)[1].best.coverage)
                late = max(late, time.monotonic() - begin - t)
            print(
                f"{s.name:14} {len(islands):4} {t:5.0f} s  {min(found):.3f} {float(np.median(found)):.3f} {max(found):.3f}  spread {100 * (max(found) - min(found)):4.1f}"
                f"  spyrrow {other:.3f}  longest past its time {late:.2f} s", flush=True,
            )  # fmt: skip


PARTS: dict[str, Callable[[], None]] = {
    "plain": lambda: against(PLAIN), "rings": lambda: against(RINGS), "all": lambda: against((all_models(), all_models(mesh_units=True))),
    "maps": maps, "free": free, "tiles": tiles, "held": held, "large": large,
    "steady": lambda: steady((*CHOSEN_ON, *REPORTED, *PLAIN, *RINGS), (2, 5, 20), 5),
    "steady-chosen": lambda: steady(CHOSEN_ON, (2, 5), 4), "steady-reported": lambda: steady((*REPORTED, PLAIN[0], PLAIN[4]), (2, 5), 4),
}  # fmt: skip


def main() -> None:
    """Run the named parts, or all."""
    for name in [a for a in sys.argv[1:] if a in PARTS] or list(PARTS):
        print(f"-- {name}", flush=True)
        PARTS[name]()
    print(f"greatest memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB, {os.cpu_count()} cores")


if __name__ == "__main__":
    main()
