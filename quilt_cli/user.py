"""`quilt user`: accounts of an installation that a team shares. The work is the server's, which is loaded only then."""

from __future__ import annotations

from pathlib import Path
from typing import Any


def add(commands: Any) -> None:
    """The words of this command."""
    c = commands.add_parser("user")
    c.add_argument("what", choices=("add", "password", "remove", "list"), help="what to do")
    c.add_argument("name", nargs="?", default="", help="of the account")
    c.add_argument("--data", type=Path, help="where projects are kept")
