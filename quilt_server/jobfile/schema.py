"""The JSON schema of job files, as it is published in `docs/job.schema.json`: `python -m quilt_server.jobfile.schema > docs/job.schema.json`."""

from __future__ import annotations

import json
import os
import sys


def published() -> str:
    """The schema as text."""
    from .model import JobFile

    found = JobFile.model_json_schema(by_alias=True)
    found["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    found["title"] = "Untold Quilt job"
    return json.dumps(found, indent=1, sort_keys=True) + "\n"


if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "quilt_server.settings")
    import django

    django.setup()
    sys.stdout.write(published())
