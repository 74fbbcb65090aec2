"""What all tests share. The data folder of a test run is its own; real files come from `real_files`."""

from __future__ import annotations

import os
import tempfile

os.environ["QUILT_DATA"] = tempfile.mkdtemp(prefix="quilt-test-")
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "quilt_server.settings")
os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"  # the browser driver runs an event loop in the test's thread
