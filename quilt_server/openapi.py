"""Prints the OpenAPI document, from which the front end's types are made: `python -m quilt_server.openapi`."""

from __future__ import annotations

import json
import os


def document() -> str:
    """The API as OpenAPI JSON."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "quilt_server.settings")
    import django

    django.setup()
    from .api import api

    return json.dumps(api.get_openapi_schema(), indent=2, sort_keys=True) + "\n"


if __name__ == "__main__":
    print(document(), end="")
