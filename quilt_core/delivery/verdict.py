"""The one verdict on a layout, made of all its parts: for every screen, the report, the command line and the batch alike."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

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
class Part:
    """One thing that is wrong: its `kind`, the words for it, and whether it alone makes a layout unfit for baking."""

    kind: str
    text: str
    heavy: bool = False


@dataclass(frozen=True)
class Verdict:
    """What a sheet is good for: `grade` "fit" for baking, "fit with faults" (it can be baked, but something on it will look wrong), or "not fit"; `line`
    says so with the map size, `reasons` why, the heaviest first; the first `heavy` of them make it unfit."""

    grade: str
    line: str
    reasons: list[str]
    heavy: int = 0

    @property
    def ok(self) -> bool:
        """Whether it can be baked."""
        return self.grade != "not fit"

    def as_dict(self) -> dict[str, Any]:
        """For reports and screens."""
        return {"grade": self.grade, "line": self.line, "reasons": self.reasons}


def verdict(
    figures: dict[str, Any], bleed: dict[str, Any] | None = None, asked: Asked | None = None, allow: Collection[str] = (), refuse: Collection[str] = (),
    more: Sequence[Part] = (),
) -> Verdict:  # fmt: skip
    """The verdict on a sheet's layout.

    Parameters
    ----------
    figures : of `report.proof_figures`, with `map_px`
    bleed : `clean` (None for tiles that are too large to be measured), `levels`, `thin` (islands thinner than a texel); None where it was not measured yet
    asked : what the layout was packed for, or has to hold; None where nobody asked
    allow, refuse : kinds of parts that count for nothing, and that make it unfit; more : parts that somebody else found
    """
    found = [p for p in (*_of_proof(figures), *_of_bleed(bleed), *narrower(figures, asked or Asked()), *more) if p.kind not in allow]
    wrong = [p.text for p in found if p.heavy or p.kind in refuse]
    faults = [p.text for p in found if not (p.heavy or p.kind in refuse)]
    grade = "not fit" if wrong else "fit with faults" if faults else "fit"
    start = {"not fit": "Not fit for baking", "fit with faults": "Fit for baking, with faults", "fit": "Fit for baking"}[grade]
    text = f"{start} at {figures['map_px']} px"
    if not wrong and not _on_map(bleed):
        text += _how_clean(bleed)
    return Verdict(grade, text, wrong + faults, len(wrong))


class OfSheet(NamedTuple):
    """The verdict on a sheet, by name; `clean`: the last mip level that is clean, None where that is not known."""

    name: str
    verdict: Verdict
    clean: int | None


def of_sheets(found: Sequence[OfSheet]) -> Verdict | None:
    """The verdict on several sheets is that of the worst; its reasons name the sheet. None for no sheet; sheets without islands are not among them."""
    if not found:
        return None
    order = sorted(found, key=lambda f: (_HEAVY_FIRST.index(f.verdict.grade), -1 if f.clean is None else f.clean))
    worst = order[0].verdict
    if len(found) == 1:
        return worst
    reasons = [f"{f.name}: {r}" for f in order for r in f.verdict.reasons]
    line = f"{order[0].name}: {worst.line[0].lower()}{worst.line[1:]}" if reasons else worst.line
    return Verdict(worst.grade, line, reasons)


def _of_proof(figures: dict[str, Any]) -> list[Part]:
    overlap = figures["overlap"]
    words = {
        "pairs": (overlap["pairs"], "pair of islands overlaps", "pairs of islands overlap"),
        "self": (overlap["self"], "island overlaps itself", "islands overlap themselves"),
        "outside": (figures["outside"], "island is outside or astride tiles", "islands are outside or astride tiles"),
        "mirrored": (figures["flipped"], "island is mirrored: letters on it read backwards, its normal map turns inside out",
                     "islands are mirrored: letters on them read backwards, normal maps turn inside out"),
    }  # fmt: skip
    return [Part(kind, counted(n, one, more), kind != "mirrored") for kind, (n, one, more) in words.items() if n]


def _of_bleed(bleed: dict[str, Any] | None) -> list[Part]:
    if bleed is None:
        return []
    out, share = [], _on_map(bleed)
    if share >= SEAMS:
        out.append(Part("bleed", f"neighbours' colours reach {share:.0%} of the outlines on the full map already: widen the padding", True))
    elif share:
        who = counted(bleed.get("reached", 0), "island", "islands")
        out.append(
            Part("bleed", f"neighbours' colours reach {who} on the full map, along {_little(share)} of the outlines: widen the padding")
        )
    if thin := bleed.get("thin", 0):
        words = counted(thin, "island is thinner than a texel", "islands are thinner than a texel")
        out.append(Part("thin", f"{words}: nothing can be baked there at this size"))
    return out


def _little(share: float) -> str:
    return "less than 0.1%" if share < 0.001 else f"{share:.1%}"


def _on_map(bleed: dict[str, Any] | None) -> float:
    """The share of the outlines that foreign colours reach on the full map. Proofs of earlier versions tell only whether they do."""
    if bleed is None or bleed["clean"] is None or bleed["clean"] >= 0:
        return 0.0
    return float(bleed.get("on_map", 1.0))


def narrower(figures: dict[str, Any], asked: Asked) -> list[Part]:
    """Gaps and margins under what was asked."""
    found = (("gap", asked.padding_px, figures["smallest_gap_px"]), ("margin", asked.margin_px, figures["smallest_margin_px"]))
    return [
        Part(name, f"the smallest {name} is {got:.3f} px, {wanted:g} px are asked for")
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
