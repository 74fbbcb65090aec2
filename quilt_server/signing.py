"""Signing in and out, on an installation of a team. On a machine of one's own nobody is asked."""

from __future__ import annotations

import time
from collections import defaultdict, deque
from collections.abc import Callable
from threading import Lock
from typing import Any

from django.conf import settings
from django.contrib.auth import authenticate, login, logout
from django.contrib.auth.models import User
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.middleware.csrf import CsrfViewMiddleware, get_token
from ninja import Router, Schema
from ninja.errors import HttpError

from .projects.asker import asked_by

router = Router()
OPEN = ("/api/session", "/api/sign-in")
# What is asked by POST since it needs a body, and changes nothing.
LOOKS = ("plan", "suggest", "belongs", "pick", "grab", "sewn", "brush")
WINDOW, MOST_OF_NAME, MOST_OF_ADDRESS = 900.0, 6, 40  # seconds, and attempts that may fail in them


class Attempts:
    """Failed attempts of the last while, by name and by address: who fails too often waits, whoever asks with the right password meanwhile included."""

    def __init__(self) -> None:
        self.failed: dict[str, deque[float]] = defaultdict(deque)
        self.lock = Lock()

    def wait(self, name: str, address: str, now: float) -> float:
        """Seconds until another attempt is taken."""
        with self.lock:
            return max(self._wait(f"n {name.lower()}", MOST_OF_NAME, now), self._wait(f"a {address}", MOST_OF_ADDRESS, now))

    def _wait(self, key: str, most: int, now: float) -> float:
        found = self.failed.get(key)
        while found and now - found[0] > WINDOW:
            found.popleft()
        if not found:
            self.failed.pop(key, None)
            return 0.0
        return 0.0 if len(found) < most else WINDOW - (now - found[-most])

    def note(self, name: str, address: str, now: float) -> None:
        """An attempt that failed."""
        with self.lock:
            self.failed[f"n {name.lower()}"].append(now)
            self.failed[f"a {address}"].append(now)

    def forget(self, name: str) -> None:
        """Somebody got in."""
        with self.lock:
            self.failed.pop(f"n {name.lower()}", None)


attempts = Attempts()


class SignIn(Schema):
    name: str
    password: str


class SessionOut(Schema):
    """Whether somebody has to sign in here, and who did."""

    team: bool
    user: str | None


def _session(request: HttpRequest) -> SessionOut:
    if settings.QUILT_TEAM:
        get_token(request)  # the page sends it back with every change
    user = request.user
    return SessionOut(team=settings.QUILT_TEAM, user=user.get_username() if settings.QUILT_TEAM and user.is_authenticated else None)


@router.get("/session", response=SessionOut)
def session(request: HttpRequest) -> SessionOut:
    """Whether somebody has to sign in here, and who did."""
    return _session(request)


@router.post("/sign-in", response=SessionOut)
def sign_in(request: HttpRequest, body: SignIn) -> SessionOut:
    """Sign in by name and password."""
    if not settings.QUILT_TEAM:
        raise HttpError(404, "Nobody has to sign in here.")
    address, now = str(request.META.get("REMOTE_ADDR", "")), time.monotonic()
    wait = attempts.wait(body.name, address, now)
    if wait > 0:
        raise HttpError(429, f"Too many attempts failed. Try again in {max(1, round(wait / 60))} min.")
    user = authenticate(request, username=body.name[:150], password=body.password[:1000])
    if user is None:
        attempts.note(body.name, address, now)
        raise HttpError(403, "This name and this password do not go together.")
    attempts.forget(body.name)
    login(request, user)
    return _session(request)


@router.post("/sign-out", response=SessionOut)
def sign_out(request: HttpRequest) -> SessionOut:
    """Sign out."""
    logout(request)
    return _session(request)


class _Csrf(CsrfViewMiddleware):
    """Django's check, for every change: no view of the API is exempt."""

    def refusal(self, request: HttpRequest) -> HttpResponse | None:
        """The answer to a request without the token of its page; None where it has it."""
        self.process_request(request)
        found: HttpResponse | None = self.process_view(request, HttpResponse, (), {})
        return found

    def _reject(self, request: HttpRequest, reason: str) -> HttpResponse:
        return JsonResponse({"detail": "This page is too old. Load it again."}, status=403)


class PeopleMiddleware:
    """On an installation of a team: nothing of the API for who is not signed in, and every change with the token of its page. What is made meanwhile says by whom."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response
        self.csrf = _Csrf(get_response)

    def __call__(self, request: HttpRequest) -> Any:
        if not settings.QUILT_TEAM:
            return self.get_response(request)
        changes = request.method not in ("GET", "HEAD", "OPTIONS")
        user = request.user
        if request.path.startswith("/api/") and request.path not in OPEN and not user.is_authenticated:
            return JsonResponse({"detail": "Sign in first."}, status=401)
        if changes and (refusal := self.csrf.refusal(request)) is not None:
            return refusal
        with asked_by(user.pk if isinstance(user, User) else None, changes and request.path.rsplit("/", 1)[-1] not in LOOKS):
            response = self.get_response(request)
        self.csrf.process_response(request, response)
        return response
