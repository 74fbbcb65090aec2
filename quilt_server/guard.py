"""What stands before every request: whom it is for, where it came from, and what its answer tells the browser."""

from __future__ import annotations

from collections.abc import Callable
from urllib.parse import urlsplit

from django.core.exceptions import DisallowedHost
from django.http import HttpRequest, HttpResponse, JsonResponse

# Scripts, connections and frames of our own only. Styles are put into the page by its own script, so they may stand in it.
POLICY = "; ".join(
    (
        "default-src 'self'", "script-src 'self'", "style-src 'self' 'unsafe-inline'", "img-src 'self' data: blob:", "connect-src 'self' blob:",
        "font-src 'self'", "worker-src 'self'", "object-src 'none'", "base-uri 'none'", "form-action 'self'", "frame-ancestors 'none'",
    )
)  # fmt: skip
HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Frame-Options": "DENY",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
}


class GuardMiddleware:
    """The outermost one: a foreign Host gets nothing, a page or a file either; a change needs our own header, which a foreign page cannot send without asking
    first, and our own Origin; every answer says that it is for our own pages."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = _refusal(request) or self.get_response(request)
        for name, value in HEADERS.items():
            response[name] = value
        return response


def _refusal(request: HttpRequest) -> HttpResponse | None:
    """The answer to a request that is not for us or not from us."""
    try:
        host = request.get_host()  # no DNS rebinding
    except DisallowedHost:
        return JsonResponse({"detail": "This address is not one that the application is served under."}, status=400)
    if request.method not in ("GET", "HEAD", "OPTIONS"):
        origin = request.headers.get("Origin")
        if request.headers.get("X-Quilt") != "1" or (origin and urlsplit(origin).netloc != host):
            return JsonResponse({"detail": "This request did not come from the application."}, status=403)
    return None
