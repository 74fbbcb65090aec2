"""What is said of how a surface looks after: figures over all materials, and a sentence for what a viewer would see to be another. See `seen`."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from .seen import CUT

LEAST = 30.0  # decibels: below it a difference is told (ours; 45 is what no eye finds, 25 is what anyone does)
MOST_CUT = 0.01  # share of a cut-out surface that may be there or not other than before: about the texels along its edges (ours)


def summed(found: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """Figures by quantity over all materials, the worst one named; quantities that nothing differs in are there as well."""
    out = []
    for kind in dict.fromkeys(f["kind"] for f in found):
        mine = [f for f in found if f["kind"] == kind]
        worst = min(mine, key=lambda f: f["psnr"])
        weight = sum(f["area"] for f in mine)
        square = sum(f["area"] * 10 ** (-f["psnr"] / 10) for f in mine) / weight
        psnr = math.inf if square < 1e-12 else -10 * math.log10(square)
        out.append(
            {"kind": kind, "psnr": _rounded(psnr), "mean": round(sum(f["area"] * f["mean"] for f in mine) / weight, 3), "worst": worst["material"],
             "worst_psnr": _rounded(worst["psnr"])}
        )  # fmt: skip
    return out


def _rounded(psnr: float) -> float | None:
    return None if math.isinf(psnr) else round(psnr, 2)


def by_material(found: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """For every material the quantity in which it looks least as before, the worst first; those that nothing differs of are left out."""
    out: dict[str, Mapping[str, Any]] = {}
    for f in found:
        if not math.isinf(f["psnr"]) and (f["material"] not in out or f["psnr"] < out[f["material"]]["psnr"]):
            out[f["material"]] = f
    worst = sorted(out.values(), key=lambda f: f["psnr"])
    return [{"material": f["material"], "kind": f["kind"], "psnr": _rounded(f["psnr"]), "mean": round(f["mean"], 3)} for f in worst]


def reasons(figures: Sequence[Mapping[str, Any]]) -> list[str]:
    """A sentence for each quantity that a viewer would see to be another."""
    return [said for f in figures if f["worst_psnr"] is not None and (said := _reason(f))]


def _reason(f: Mapping[str, Any]) -> str:
    """Why a quantity looks other than before; empty where it does not."""
    if f["kind"] == CUT:
        # A point is there or cut out, so the mean square of the differences is the share of points that are the other way.
        share = 10 ** (-f["worst_psnr"] / 10)
        return (
            ""
            if share <= MOST_CUT
            else f"{share:.1%} of '{f['worst']}' is cut out that was there, or the other way round ({MOST_CUT:.0%} at most is wanted)."
        )
    if f["worst_psnr"] >= LEAST:
        return ""
    return f"The {f['kind']} of '{f['worst']}' looks other than before ({f['worst_psnr']:.1f} dB; {LEAST:.0f} or more is wanted)."
