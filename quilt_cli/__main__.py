"""`python -m quilt_cli`."""

import sys

from .main import main

sys.exit(main())
