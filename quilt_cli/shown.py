"""A large picture made small, in a process of its own that gives its memory back: `python -m quilt_cli.shown FROM TO PX MOST_PIXELS NAME [plain]`."""

from __future__ import annotations

import resource
import sys
from pathlib import Path

from quilt_core.errors import QuiltError
from quilt_core.formats.pictures import shown

_ROOM = 300 << 20


def main(argv: list[str]) -> int:
    """Write the small picture; 1 with a line on standard error where it cannot be read."""
    source, target, px, most, name, *how = argv
    # Four bytes for each pixel, and as much again for what becomes of it.
    resource.setrlimit(resource.RLIMIT_DATA, (int(most) * 10 + _ROOM, resource.getrlimit(resource.RLIMIT_DATA)[1]))
    try:
        Path(target).write_bytes(shown(Path(source), int(px), int(most), name, "plain" in how))
    except QuiltError as e:
        print(e, file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
