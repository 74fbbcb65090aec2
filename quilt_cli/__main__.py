"""`python -m quilt_cli`."""

import sys

from .main import entry

sys.exit(entry())
