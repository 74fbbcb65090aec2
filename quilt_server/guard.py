"""Refuses requests that another site made the browser send."""

from __future__ import annotations

from collections.abc import Callable
from urllib.parse import urlsplit

from django.http import HttpRequest, HttpResponse, JsonResponse


class SameOriginMiddleware:
    """A change needs our own header, which a foreign page cannot send without asking first, and our own Origin."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        host = request.get_host()  # raises for a foreign Host: no DNS rebinding
        if request.method not in ("GET", "HEAD", "OPTIONS"):
            origin = request.headers.get("Origin")
            if request.headers.get("X-Quilt") != "1" or (origin and urlsplit(origin).netloc != host):
                return JsonResponse({"detail": "This request did not come from the application."}, status=403)
        return self.get_response(request)
