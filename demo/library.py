"""The demo's parts as a library of assets, with a job file: `python -m demo.library DIR`."""

from __future__ import annotations

import sys
from pathlib import Path

from .quay import asset_library


def main() -> int:
    """Write it into a folder that is not there yet, or empty."""
    if len(sys.argv) != 2:
        print("Name a folder: python -m demo.library DIR", file=sys.stderr)
        return 2
    top = Path(sys.argv[1])
    if top.exists() and any(top.iterdir()):
        print(f"{top} is not empty. Name another folder.", file=sys.stderr)
        return 2
    for path, body in asset_library().items():
        (top / path).parent.mkdir(parents=True, exist_ok=True)
        (top / path).write_bytes(body)
    print(f"{top}: the parts of the quay, and quay.toml")
    return 0


if __name__ == "__main__":
    sys.exit(main())
