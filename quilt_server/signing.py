"""Signing in and out, on an installation of a team. On a machine of one's own nobody is asked."""

from __future__ import annotations

import hashlib
import time
from collections import OrderedDict, deque
from collections.abc import Callable
from threading import Lock
from typing import Any

from django.conf import settings
from django.contrib.auth import authenticate, login, logout
from django.contrib.auth.models import User
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.middleware.csrf import CsrfViewMiddleware, get_token
from ninja import Field, Router, Schema
from ninja.errors import HttpError

from .projects.asker import Right, asked_by
from .rights import ANYBODY, SIGNED_IN

router = Router()
OPEN = ("/api/session", "/api/sign-in")
WINDOW, MOST_OF_NAME, MOST_OF_ADDRESS = 900.0, 6, 40  # seconds, and attempts that may fail in them
MOST_KEPT = 20_000  # names and addresses
MOST_OF_BODY = 16 << 10  # bytes that are read of a request by somebody who is not signed in


class Attempts:
    """Failed attempts of the last while, by name and by address: who fails too often waits, whoever asks with the right password meanwhile included. What is
    kept has one length, however long a name was, and no more than `MOST_KEPT` of it is: the oldest are forgotten first."""

    def __init__(self) -> None:
        self.failed: OrderedDict[bytes, deque[float]] = OrderedDict()
        self.lock = Lock()

    def wait(self, name: str, address: str, now: float) -> float:
        """Seconds until another attempt is taken."""
        with self.lock:
            return max(
                self._wait(_mark("name", name.lower()), MOST_OF_NAME, now), self._wait(_mark("address", address), MOST_OF_ADDRESS, now)
            )

    def _wait(self, key: bytes, most: int, now: float) -> float:
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
            for key, most in ((_mark("name", name.lower()), MOST_OF_NAME), (_mark("address", address), MOST_OF_ADDRESS)):
                self.failed.setdefault(key, deque(maxlen=most)).append(now)
                self.failed.move_to_end(key)
            while len(self.failed) > MOST_KEPT:
                self.failed.popitem(last=False)

    def forget(self, name: str) -> None:
        """Somebody got in."""
        with self.lock:
            self.failed.pop(_mark("name", name.lower()), None)


def _mark(what: str, text: str) -> bytes:
    """What a name or an address is kept as."""
    return hashlib.sha256(f"{what} {text}".encode("utf-8", "replace")).digest()


attempts = Attempts()


class SignIn(Schema):
    name: str = Field(max_length=150)  # as long as an account's can be
    password: str = Field(max_length=1000)


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
@ANYBODY
def session(request: HttpRequest) -> SessionOut:
    """Whether somebody has to sign in here, and who did."""
    return _session(request)


@router.post("/sign-in", response=SessionOut)
@ANYBODY
def sign_in(request: HttpRequest, body: SignIn) -> SessionOut:
    """Sign in by name and password."""
    if not settings.QUILT_TEAM:
        raise HttpError(404, "Nobody has to sign in here.")
    address, now = str(request.META.get("REMOTE_ADDR", "")), time.monotonic()
    wait = attempts.wait(body.name, address, now)
    if wait > 0:
        raise HttpError(429, f"Too many attempts failed. Try again in {max(1, round(wait / 60))} min.")
    user = authenticate(request, username=body.name, password=body.password)
    if user is None:
        attempts.note(body.name, address, now)
        raise HttpError(403, "This name and this password do not go together.")
    attempts.forget(body.name)
    login(request, user)
    return _session(request)


@router.post("/sign-out", response=SessionOut)
@SIGNED_IN
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


def _length(request: HttpRequest) -> int:
    """Bytes of a request's body, as its header says; the server reads no more than that."""
    text = str(request.META.get("CONTENT_LENGTH") or "0")
    return int(text) if text.isascii() and text.isdecimal() and len(text) < 19 else 1 << 62


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
        if not user.is_authenticated and _length(request) > MOST_OF_BODY:
            return JsonResponse({"detail": "This is more than a name and a password."}, status=413)
        if changes and (refusal := self.csrf.refusal(request)) is not None:
            return refusal
        with asked_by(user.pk if isinstance(user, User) else None, Right.OWN):  # until the address says what it needs
            response = self.get_response(request)
        self.csrf.process_response(request, response)
        return response
