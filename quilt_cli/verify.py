"""`quilt verify`: the proof of a layout that is already in the files, whoever made it."""

from __future__ import annotations

import argparse
import math
from typing import Any

from quilt_core.delivery.verify import ALLOWED, REFUSED, Wanted, verify_report
from quilt_core.model.scene import Scene

_WORDS = {"self": "overlap themselves", "mirrored": "are mirrored", "twins": "cover the same texels as others"}


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    """The words of this command."""
    v = commands.add_parser("verify", parents=[common])
    v.add_argument("--padding", type=float, metavar="PX", help="also ask for this gap")
    v.add_argument("--margin", type=float, metavar="PX", help="also ask for this margin")
    allow = "what is no reason to fail: faults of single islands that came with their UVs, mirrored and self (overlap themselves), and twins (cover the same texels)"
    v.add_argument("--allow", type=lambda text: _kinds(text, ALLOWED), default=(), metavar="KINDS", help=allow)
    refuse = "what is a reason to fail, and is only told without it: mirrored, thin (thinner than a texel; needs --padding) and density (off by more than --band)"
    v.add_argument("--refuse", type=lambda text: _kinds(text, REFUSED), default=(), metavar="KINDS", help=refuse)
    v.add_argument("--density", type=_positive, metavar="PX_PER_M", help="the density that islands are compared with (their median)")
    v.add_argument("--band", type=_positive, default=10.0, metavar="PERCENT", help="how far an island may be off it (10)")


def _positive(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not 0 < value < math.inf:
        raise argparse.ArgumentTypeError(f"'{text}' is not a number above 0")
    return value


def _kinds(text: str, known: tuple[str, ...]) -> tuple[str, ...]:
    """Kinds of faults with commas between them."""
    kinds = tuple(k.strip() for k in text.split(","))
    if not set(kinds) <= set(known):
        raise argparse.ArgumentTypeError(f"'{text}' is not a list of {', '.join(known)}, as in {known[1]},{known[0]}")
    return kinds


def verify(args: argparse.Namespace, scenes: list[Scene]) -> tuple[dict[str, Any], list[str]]:
    """Prove the layout; returns the report, and lines for people."""
    wanted = Wanted(args.padding, args.margin, args.allow, args.refuse, args.density, args.band)
    r = verify_report(scenes, args.channel_in, args.map, wanted)
    gap, margin = (("none" if r[k] is None else f"{r[k]:.3f} px") for k in ("smallest_gap_px", "smallest_margin_px"))
    lines = [
        f"{'; '.join([r['verdict'], *r['reasons'], *r['faults']])}.",
        f"{r['islands']} islands at {args.map} px, smallest gap {gap}, smallest margin {margin}, coverage {r['coverage']:.1%}",
    ]
    as_came = {k: "" if k == "twins" else ", as their UVs came" for k in _WORDS}
    lines += [f"{n} islands {_WORDS[kind]}{as_came[kind]}: allowed" for kind, n in r["allowed"].items()]
    own = [_WORDS[k] for k, n in (("self", r["overlap"]["self"]), ("mirrored", r["flipped"])) if n and k not in args.allow]
    if own:
        lines.append(f"islands that {' or '.join(own)} do so in the UVs that came; --allow takes these kinds")
    return r, lines
