"""Django settings. Everything that differs between machines comes from two environment variables."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from .logs import config

BASE_DIR = Path(__file__).resolve().parent.parent
DATA_DIR = Path(os.environ.get("QUILT_DATA") or Path(os.environ.get("XDG_DATA_HOME", Path.home() / ".local/share")) / "untold-quilt")
try:
    DATA_DIR.mkdir(parents=True, exist_ok=True)
except OSError as e:
    raise SystemExit(f"quilt: the data folder {DATA_DIR} cannot be made ({e.strerror}). Choose another with --data.") from e


def _secret() -> str:
    path = DATA_DIR / "secret"
    if not path.exists():
        path.write_text(secrets.token_urlsafe(48))
        path.chmod(0o600)
    return path.read_text()


SECRET_KEY = _secret()
DEBUG = False
# An installation that a team shares: whoever comes has to sign in. See docs/security.md.
QUILT_TEAM = os.environ.get("QUILT_TEAM") == "1"
_PLAIN_HTTP = os.environ.get("QUILT_PLAIN_HTTP") == "1"
ALLOWED_HOSTS = ["localhost", "127.0.0.1", "[::1]", *filter(None, os.environ.get("QUILT_HOSTS", "").split(","))]
INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "quilt_server.projects",
    "quilt_server.batches",
]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]
SESSION_COOKIE_AGE = 7 * 24 * 3600
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = QUILT_TEAM and not _PLAIN_HTTP
SESSION_COOKIE_SAMESITE = CSRF_COOKIE_SAMESITE = "Strict"
MIDDLEWARE = [
    "quilt_server.guard.GuardMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "quilt_server.signing.PeopleMiddleware",
    "django.middleware.common.CommonMiddleware",
]
ROOT_URLCONF = "quilt_server.urls"
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": DATA_DIR / "quilt.sqlite3",
        "OPTIONS": {
            "transaction_mode": "IMMEDIATE",
            "timeout": 20,
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; PRAGMA foreign_keys=ON;",
        },
        "TEST": {"NAME": DATA_DIR / "test.sqlite3"},
    }
}
LOGGING = config(DATA_DIR)
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
STATIC_URL = "/static/"
WEB_DIR = BASE_DIR / "web" / "dist"
WHITENOISE_ROOT = WEB_DIR if WEB_DIR.exists() else None
WHITENOISE_INDEX_FILE = True
WHITENOISE_ALLOW_ALL_ORIGINS = False


def _limit(name: str, usual: int) -> int:
    """A limit that the environment may set, a whole number above 0."""
    text = os.environ.get(name, "")
    if not text:
        return usual
    if not text.isascii() or not text.isdigit() or not 0 < int(text[:12]) < 10**9:
        raise SystemExit(f"quilt: {name} is '{text[:40]}'; it should be a whole number above 0.")
    return int(text)


# The most that one upload, zip files opened, may hold; and the largest file in it.
QUILT_UPLOAD_BYTES = _limit("QUILT_UPLOAD_MB", 2048) << 20
QUILT_FILE_BYTES = _limit("QUILT_FILE_MB", 1024) << 20
QUILT_UPLOAD_FILES = _limit("QUILT_UPLOAD_FILES", 2000)
# Pixels of a picture that is looked at in the browser or carried over.
QUILT_PICTURE_PIXELS = _limit("QUILT_PICTURE_MEGAPIXELS", 256) * 1_000_000
# A folder whose meshes batches may read, where their results go (the data folder without it), and a Dask scheduler that gives them out.
QUILT_LIBRARY = os.environ.get("QUILT_LIBRARY") or None
QUILT_RESULTS = os.environ.get("QUILT_RESULTS") or None
QUILT_SCHEDULER = os.environ.get("QUILT_SCHEDULER") or None
DATA_UPLOAD_MAX_MEMORY_SIZE = 32 << 20  # of what is no file: settings of a very large project
DATA_UPLOAD_MAX_NUMBER_FILES = QUILT_UPLOAD_FILES + 1
DATA_UPLOAD_MAX_NUMBER_FIELDS = QUILT_UPLOAD_FILES + 100
# Files go to the disk as they come; only small ones wait in memory.
FILE_UPLOAD_MAX_MEMORY_SIZE = 256 << 10
