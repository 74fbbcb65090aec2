"""`quilt user`: the accounts of an installation that a team shares."""

from __future__ import annotations

import argparse
import getpass
import os
import sys
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from django.contrib.auth.models import User


def run(args: argparse.Namespace) -> int:
    """Do it; returns the exit code."""
    if args.data is not None:
        os.environ["QUILT_DATA"] = str(args.data.resolve())
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "quilt_server.settings")
    import django

    django.setup()
    from django.conf import settings

    from .only_one import unusable

    if (unfit := unusable(settings.DATA_DIR)) is not None:
        return _wrong(unfit)
    from django.contrib.auth.models import User
    from django.core.management import call_command

    call_command("migrate", verbosity=0)
    if args.what == "list":
        for user in User.objects.order_by("username"):
            print(user.get_username())
        return 0
    if not args.name:
        return _wrong("name the account, as in: quilt user add NAME")
    found = User.objects.filter(username__iexact=args.name).first()
    if args.what == "add":
        return _wrong(f"there is an account '{found}' already") if found else _made(args.name)
    if found is None:
        return _wrong(f"there is no account '{args.name}'")
    if args.what == "remove":
        found.delete()
        print(f"Removed. Projects of {args.name} belong to nobody now: the next start gives them to the oldest account.")
        return 0
    return _with_password(found)


def _wrong(text: str) -> int:
    print(f"quilt: {text}", file=sys.stderr)
    return 2


def _made(name: str) -> int:
    from django.contrib.auth.models import User
    from django.core.exceptions import ValidationError

    user = User(username=name)
    try:
        User.username_validator(name)
        if len(name) > 60:
            raise ValidationError("it is longer than 60 signs")
    except ValidationError as e:
        return _wrong(f"'{name[:60]}' cannot be the name of an account: {' '.join(e.messages)}")
    code = _with_password(user)
    if code == 0:
        own()
    return code


def _with_password(user: User) -> int:
    from django.contrib.auth.password_validation import validate_password
    from django.core.exceptions import ValidationError

    if sys.stdin.isatty():
        password = getpass.getpass(f"Password for {user.username}: ")
        if password != getpass.getpass("The same again: "):
            return _wrong("these are two passwords; nothing was changed")
    else:
        password = sys.stdin.readline().rstrip("\n")
    try:
        validate_password(password, user)
    except ValidationError as e:
        return _wrong(" ".join(e.messages))
    user.set_password(password)
    user.save()
    print(f"{user.username} can sign in with it.")
    return 0


def own() -> None:
    """Projects and batches that belong to nobody belong to the oldest account from now on."""
    from django.contrib.auth.models import User

    from .batches.models import Batch
    from .projects.models import Project

    first = User.objects.order_by("pk").first()
    if first is not None:
        Project.objects.filter(owner=None).update(owner=first)
        Batch.objects.filter(owner=None).update(owner=first)
