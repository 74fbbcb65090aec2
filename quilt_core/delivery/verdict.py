"""The one verdict on a layout, made of all its parts: for every screen, the report, the command line and the batch alike."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ..words import counted

# Lengths in a written file are rounded: a gap this much under what was asked (px) is as asked.
ROUNDING_PX = 1e-3
# From this share of the outlines on, foreign colours on the full map are seams that are seen everywhere; less is the tips of a few islands, which are
# narrower than a texel and stay so at any padding (common practice, no source).
SEAMS = 0.02
_HEAVY_FIRST = ("not fit", "fit with faults", "fit")


@dataclass(frozen=True)
class Asked:
    """The padding and the margin that a layout was asked for, in px; None for neither."""

    padding_px: float | None = None
    margin_px: float | None = None


@dataclass(frozen=True)
class Verdict:
    """What a sheet is good for: `grade` "fit" for baking, "fit with faults" (it can be baked, but something on it will look wrong), or "not fit"; `line`
    says so with the map size, `reasons` why, the heaviest first."""

    grade: str
    line: str
    reasons: list[str]

    @property
    def ok(self) -> bool:
        """Whether it can be baked."""
        return self.grade != "not fit"

    def as_dict(self) -> dict[str, Any]:
        """For reports and screens."""
        return {"grade": self.grade, "line": self.line, "reasons": self.reasons}


def verdict(figures: dict[str, Any], bleed: dict[str, Any] | None = None, asked: Asked | None = None) -> Verdict:
    """The verdict on a sheet's layout.

    Parameters
    ----------
    figures : of `report.proof_figures`, with `map_px`
    bleed : `clean` (None for tiles that are too large to be measured), `levels`, `thin` (islands thinner than a texel); None where it was not measured yet
    asked : what the layout was packed for, or has to hold; None where nobody asked
    """
    wrong, faults = _wrong(figures, bleed), [*_faults(figures, bleed), *narrower(figures, asked or Asked())]
    grade = "not fit" if wrong else "fit with faults" if faults else "fit"
    start = {"not fit": "Not fit for baking", "fit with faults": "Fit for baking, with faults", "fit": "Fit for baking"}[grade]
    text = f"{start} at {figures['map_px']} px"
    if not wrong and not _on_map(bleed):
        text += _how_clean(bleed)
    return Verdict(grade, text, wrong + faults)


def of_sheets(found: Sequence[tuple[str, Verdict]]) -> Verdict | None:
    """The verdict on several sheets is that of the worst; its reasons name the sheet. None for no sheet; sheets without islands are not among them."""
    if not found:
        return None
    name, worst = min(found, key=lambda f: _HEAVY_FIRST.index(f[1].grade))
    if len(found) == 1:
        return worst
    reasons = [f"{name}: {r}" for name, v in sorted(found, key=lambda f: _HEAVY_FIRST.index(f[1].grade)) for r in v.reasons]
    return Verdict(worst.grade, f"{name}: {worst.line[0].lower()}{worst.line[1:]}" if reasons else worst.line, reasons)


def _wrong(figures: dict[str, Any], bleed: dict[str, Any] | None) -> list[str]:
    overlap = figures["overlap"]
    out = [
        overlap["pairs"] and counted(overlap["pairs"], "pair of islands overlaps", "pairs of islands overlap"),
        overlap["self"] and counted(overlap["self"], "island overlaps itself", "islands overlap themselves"),
        figures["outside"] and counted(figures["outside"], "island is outside or astride tiles", "islands are outside or astride tiles"),
        _on_map(bleed) >= SEAMS
        and f"neighbours' colours reach {_on_map(bleed):.0%} of the outlines on the full map already: widen the padding",
    ]
    return [str(w) for w in out if w]


def _faults(figures: dict[str, Any], bleed: dict[str, Any] | None) -> list[str]:
    mirrored = ("island is mirrored: letters on it read backwards, its normal map turns inside out",
                "islands are mirrored: letters on them read backwards, normal maps turn inside out")  # fmt: skip
    thin, reached = (0, 0) if bleed is None else (bleed.get("thin", 0), bleed.get("reached", 0))
    out = [
        0 < _on_map(bleed) < SEAMS
        and f"neighbours' colours reach {counted(reached, 'island', 'islands')} on the full map, along {_little(_on_map(bleed))} of the outlines: widen the padding",
        figures["flipped"] and counted(figures["flipped"], *mirrored),
        thin
        and counted(thin, "island is thinner than a texel", "islands are thinner than a texel")
        + ": nothing can be baked there at this size",
    ]
    return [str(w) for w in out if w]


def _little(share: float) -> str:
    return "less than 0.1%" if share < 0.001 else f"{share:.1%}"


def _on_map(bleed: dict[str, Any] | None) -> float:
    """The share of the outlines that foreign colours reach on the full map. Proofs of earlier versions tell only whether they do."""
    if bleed is None or bleed["clean"] is None or bleed["clean"] >= 0:
        return 0.0
    return float(bleed.get("on_map", 1.0))


def narrower(figures: dict[str, Any], asked: Asked) -> list[str]:
    """Gaps and margins under what was asked."""
    found = (("gap", asked.padding_px, figures["smallest_gap_px"]), ("margin", asked.margin_px, figures["smallest_margin_px"]))
    return [
        f"the smallest {name} is {got:.3f} px, {wanted:g} px are asked for"
        for name, wanted, got in found
        if wanted is not None and got is not None and got < wanted - ROUNDING_PX
    ]


def _how_clean(bleed: dict[str, Any] | None) -> str:
    """How far colours stay apart, where that is known."""
    if bleed is None:
        return "; whether colours bleed is not measured yet"
    if bleed["clean"] is None:
        return "; whether colours bleed is not measured at this size"
    return ", clean on every mip level" if bleed["clean"] >= bleed["levels"] - 1 else f", clean down to mip level {bleed['clean']}"
