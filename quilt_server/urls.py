"""Addresses: the API, and the single page for everything else."""

from __future__ import annotations

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.urls import path, re_path

from .api import api


def page(request: HttpRequest) -> HttpResponse:
    """The single page; it reads the address itself."""
    index = settings.WEB_DIR / "index.html"
    if not index.exists():
        return HttpResponse("The front end is not built. Start with ./quilt demo.", status=503)
    return HttpResponse(index.read_bytes(), content_type="text/html")


handler500 = "quilt_server.ours.server_error"
urlpatterns = [path("api/", api.urls), re_path(r"^(?!api/|assets/).*$", page)]
