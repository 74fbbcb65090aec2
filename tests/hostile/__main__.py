"""A night of damaged files: `python -m tests.hostile --cases 100000`; ends with 1 where anything was found. Cases are numbers, so each can be done again with
`--from N --cases 1`."""

from __future__ import annotations

import argparse
import multiprocessing
import sys
import time
from collections import Counter

from .chain import GOOD, Outcome, run


def main() -> int:
    """Run the cases; tell what was found."""
    p = argparse.ArgumentParser(prog="tests.hostile", description=__doc__)
    p.add_argument("--cases", type=int, default=2000)
    p.add_argument("--from", type=int, default=0, dest="first")
    p.add_argument("--processes", type=int, default=2)
    p.add_argument("--show", type=int, default=40, help="findings that are told in full")
    args = p.parse_args()
    begin, ends, shown, slowest = time.monotonic(), Counter[str](), 0, Outcome(-1, "", "")
    places: Counter[str] = Counter()
    with multiprocessing.get_context("fork").Pool(args.processes, _warm) as pool:
        for n, o in enumerate(pool.imap_unordered(run, range(args.first, args.first + args.cases), chunksize=8), 1):
            ends[o.how] += 1
            slowest = max(slowest, o, key=lambda x: x.seconds)
            if o.how not in GOOD:
                place = f"{o.how}: {o.words.strip().splitlines()[-1][:120] if o.words.strip() else ''}"
                places[place] += 1
                if places[place] == 1 and shown < args.show:
                    shown += 1
                    print(f"case {o.case}, {o.seed}: {o.how}\n{o.words}", flush=True)
            if n % 500 == 0:
                print(f"{n:,} of {args.cases:,} in {time.monotonic() - begin:.0f} s: {dict(ends)}", flush=True)
    for place, count in places.most_common():
        print(f"{count:6} {place}")
    print(
        f"{sum(ends.values()):,} cases in {time.monotonic() - begin:.0f} s: {dict(ends)}; the slowest is {slowest.case} with {slowest.seconds:.1f} s"
    )
    return 1 if set(ends) - set(GOOD) else 0


def _warm() -> None:
    """Load what a case needs, so that its child has it."""
    for case in range(3):
        run(case)


if __name__ == "__main__":
    sys.exit(main())
