"""A job file as text: TOML, or JSON of the same. What is wrong with one is told with its place, and unknown keys with the nearest known one."""

from __future__ import annotations

import difflib
import json
import re
import tomllib
from collections.abc import Iterable, Iterator
from datetime import date, time
from typing import Any, get_args

import re2
import tomli_w
from pydantic import BaseModel, ValidationError

from quilt_core.errors import FileError
from quilt_core.words import UNSHOWN

from ..parsing import LAYING
from .model import STEP_MODELS, JobFile

MOST_BYTES = 16 << 20
ENDINGS = (".toml", ".json")
DEEPEST = 32  # parts of a key
_QUOTED = re.compile(r'"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'')
_DEEP = re2.compile(r"(?:[^\n=\[\]{},.#]*\.){32}")
Loc = tuple[int | str, ...]


def loaded(body: bytes, name: str) -> dict[str, Any]:
    """The values of a job file, not checked yet; JSON where its name says so.

    Raises
    ------
    FileError : no text of that kind
    """
    if len(body) > MOST_BYTES:
        raise FileError(name, f"it is {len(body) >> 20} MB; a job file has {MOST_BYTES >> 20} MB at most", "", "Choose another file.")
    try:
        text = body.decode()
        found = json.loads(text) if name.lower().endswith(".json") else tomllib.loads(_shallow(text))
    except (ValueError, RecursionError) as e:
        raise FileError(name, f"it cannot be read as a job file: {str(e)[:200]}", "", "Mend it there.") from e
    if not isinstance(found, dict):
        raise FileError(name, "it is no job file", "", "It begins with job = 1.")
    for place, what in _strange(found, ()):
        raise FileError(name, f"{_place(place) or 'a value'} is {what}", "", "Write text, a number, true or false there.")
    return found


def _shallow(text: str) -> str:
    """A text without keys of very many parts, over which the library takes time with the square of their number. No key of a job file has more than four.

    Raises
    ------
    ValueError : there is one
    """
    if (found := _DEEP.search(_QUOTED.sub("q", text))) is not None:
        raise ValueError(f"a key has more than {DEEPEST} parts: '{found[0].strip()[:40]}...'")
    return text


def _strange(value: Any, place: Loc) -> Iterator[tuple[Loc, str]]:
    """Values that TOML or JSON has and a job file has no use for, with their places."""
    if isinstance(value, dict):
        for k, v in value.items():
            yield from ((place, f"called by characters that cannot be shown ({k[:40]!r})"),) if UNSHOWN.search(k) else ()
            yield from _strange(v, (*place, k))
    elif isinstance(value, list):
        for n, v in enumerate(value):
            yield from _strange(v, (*place, n))
    elif isinstance(value, date | time):
        yield place, "a date or a time"
    elif isinstance(value, int | float) and not abs(value) <= 2**1000:
        yield place, "a number without end, or none"
    elif isinstance(value, str) and UNSHOWN.search(value.translate(LAYING)):
        yield place, "a text with characters that cannot be shown"


def parsed(values: dict[str, Any], name: str) -> JobFile:
    """A checked job.

    Raises
    ------
    FileError : the first value that is not what it should be, with its place
    """
    if values.get("job", 1) != 1:
        raise FileError(
            name, f"it is of version {str(values['job'])[:20]}; this program reads version 1", "", "Bring this program up to date."
        )
    if "job" not in values:
        raise FileError(name, "it does not say which version it has", "", "Write job = 1 at its top.")
    try:
        return JobFile.model_validate(values)
    except ValidationError as e:
        raise FileError(name, _said(e), "", "Mend it there; docs/jobs.md says what may stand in a job file.") from e


def read(body: bytes, name: str) -> JobFile:
    """A job file; see `loaded` and `parsed`."""
    return parsed(loaded(body, name), name)


def _said(e: ValidationError) -> str:
    first = next((x for x in e.errors() if x["type"] == "extra_forbidden"), e.errors()[0])
    loc = tuple(first["loc"])
    place = _place(loc)
    if first["type"] == "extra_forbidden":
        key, known = str(loc[-1]), _keys_at(loc[:-1])
        near = nearest(key, known)
        return f"{_place(loc[:-1]) or 'its top'} knows no '{key[:60]}'" + (
            f"; did you mean '{near}'?" if near else f": it knows {', '.join(sorted(known))}"
        )
    if first["type"].startswith("union_tag"):
        asked = first.get("input")
        kind = str(asked.get("do", "")) if isinstance(asked, dict) else ""
        near = nearest(kind, STEP_MODELS)
        return f"{place} has do = '{kind[:40]}', which is no step" + (
            f"; did you mean '{near}'?" if near else f": {', '.join(STEP_MODELS)}"
        )
    return f"{place} is not what it should be: {first['msg'][:1].lower()}{first['msg'][1:200]}"


def nearest(key: str, known: Iterable[str]) -> str | None:
    """The known word that a wrong one most likely meant."""
    found = difflib.get_close_matches(key, list(known), 1, 0.5)
    return found[0] if found else None


def _place(loc: Loc) -> str:
    """A place in words: recipe.map_px, rules[2].weight."""
    out = ""
    for x in _plain(loc):
        out += f"[{x + 1}]" if isinstance(x, int) else f".{x}" if out else x
    return out


def _plain(loc: Loc) -> list[int | str]:
    """A place without the kind of a step, which stands between its number and its key, and without names of alternatives."""
    out: list[int | str] = []
    for n, x in enumerate(loc):
        if n == 2 and loc[0] == "steps" and x in STEP_MODELS:
            continue
        out.append(x)
    return out


def _keys_at(loc: Loc) -> list[str]:
    """The keys that a table may have at a place."""
    model: Any = JobFile
    for n, x in enumerate(loc):
        if isinstance(x, int):
            continue
        if n == 2 and loc[0] == "steps":
            model = STEP_MODELS[x]
        elif isinstance(model, type) and issubclass(model, BaseModel) and (f := _field(model, x)) is not None:
            model = _table_in(f.annotation) or model
    return [f.alias or k for k, f in model.model_fields.items()]


def _field(model: type[BaseModel], key: str) -> Any:
    return next((f for k, f in model.model_fields.items() if key in (k, f.alias)), None)


def _table_in(annotation: Any) -> type[BaseModel] | None:
    """The table that a type holds, if any: of a list, of a dict's values, of what may be missing."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    return next((found for a in get_args(annotation) if (found := _table_in(a)) is not None), None)


def plain(job: JobFile) -> dict[str, Any]:
    """A job as plain values: the recipe whole, so that it stays what it is when what is usual changes, and of all else what is not usual."""
    out = job.model_dump(exclude_defaults=True, exclude_none=True, by_alias=True)
    first = {"job": job.job, **({"name": job.name} if job.name else {}), "input": out.get("input", {})}
    own = {"recipe": job.recipe.model_dump(exclude_none=True)}
    return first | own | {k: v for k, v in out.items() if k not in ("job", "name", "input", "recipe")}


def written(job: JobFile, ending: str = ".toml") -> bytes:
    """A job file as text."""
    if ending == ".json":
        return (json.dumps(plain(job), indent=2, ensure_ascii=False) + "\n").encode()
    return tomli_w.dumps(plain(job)).encode()


def with_set(values: dict[str, Any], given: Iterable[str]) -> dict[str, Any]:
    """Values of a job file with some replaced: "recipe.map_px=1024", "sheets.1.columns=2" (from 1). A value is written as in TOML; what is none is a text.

    Raises
    ------
    FileError : no key and value, or a place that cannot be
    """
    out: dict[str, Any] = json.loads(json.dumps(values))
    for text in given:
        path, sign, value = text.partition("=")
        keys = path.strip().split(".")
        if not sign or not all(keys):
            raise FileError("--set", f"'{text[:80]}' is no key=value", "", "Write it as in recipe.map_px=1024.")
        at: Any = out
        for n, key in enumerate(keys):
            last = n == len(keys) - 1
            if isinstance(at, list):
                if not key.isdecimal() or not 1 <= int(key) <= len(at):
                    raise FileError("--set", f"'{path[:80]}' names entry {key[:20]} of {len(at)}", "", "Entries are counted from 1.")
                if last:
                    at[int(key) - 1] = _value(value)
                else:
                    at = at[int(key) - 1]
            elif isinstance(at, dict):
                if last:
                    at[key] = _value(value)
                else:
                    at = at.setdefault(key, {})
            else:
                raise FileError("--set", f"'{path[:80]}' leads into a value", "", "Write it as in recipe.map_px=1024.")
    return out


def _value(text: str) -> Any:
    try:
        return tomllib.loads(f"v = {text.strip()}")["v"]
    except tomllib.TOMLDecodeError:
        return text.strip()
