"""Steps of a job: from what led to a project's state to what has to be done again, and from a step to the parameters of a job."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import BaseModel

from quilt_core.errors import QuiltError

from ..projects.doing import BY_FILE, with_files
from ..projects.sheets import sheets
from .model import STEP_MODELS, Who
from .who import People

MAKES_UVS = ("clean", "unwrap", "flatten", "seams", "hand", "copies", "further", "ready")
# What a packing builds on, whatever lay where before: how islands are turned and mirrored.
_LASTS = ("flip", "straighten")


def again(
    work: list[dict[str, Any]], sheet_names: Mapping[int, str], kept: Iterable[int], held: bool
) -> tuple[list[dict[str, Any]], list[str]]:
    """What has to be done again for a state, of all the work that led to it; and in words what of it does not stand in a job.

    Parameters
    ----------
    sheet_names : of the sheets that there are now; kept : the sheets that lie as they were packed
    held : whether islands are held where they are, so that it counts where they lay before they were packed
    """
    notes, out = list[str](), list[dict[str, Any]]()
    replaced = max((n for n, w in enumerate(work) if w["do"] == "replace"), default=-1)
    last = max((n for n, w in enumerate(work) if w["do"] in MAKES_UVS), default=-1)
    whole = {s: max((n for n, w in enumerate(work) if _packs(w, s) and not _is_partial(w)), default=-1) for s in kept}
    first = min(whole.values(), default=len(work))
    for n, w in enumerate(work):
        kind = w["do"]
        if n < replaced and kind in MAKES_UVS:
            notes.append(f"'{kind}' was done before a file was replaced by a newer one, so it is not in the job.")
        elif (
            kind in MAKES_UVS
            or kind in ("stack", "twins")
            or (kind == "mend" and (n > first or (held and n > last) or w.get("action") in _LASTS))
        ):
            out.append(w)
        elif kind in ("pack", "keep"):
            mine = [sheet_names[s] for s in kept if _packs(w, s) and (n == whole[s] or (n > whole[s] and _is_partial(w)))]
            if mine:
                part = {k: w[k] for k in ("tiles", "islands", "go_on") if w.get(k)} if _is_partial(w) else {}
                if out and set(out[-1]) == {"do", "sheets"} and out[-1]["do"] == kind and not part:
                    out[-1]["sheets"] += mine
                else:
                    out.append({"do": kind, "sheets": mine, **part})
    return out, list(dict.fromkeys(notes))


def _packs(w: Mapping[str, Any], sheet: int) -> bool:
    return w["do"] == "ready" or (w["do"] in ("pack", "keep") and sheet in (w.get("sheets") or ()))


def _is_partial(w: Mapping[str, Any]) -> bool:
    """Whether a packing went on from the layout that there was."""
    return any(w.get(k) for k in ("tiles", "islands", "go_on"))


def named(step: Mapping[str, Any], people: People) -> dict[str, Any]:
    """Work as a step of a job file: objects by name, and without what is usual."""
    model = STEP_MODELS[step["do"]]
    out = {k: v for k, v in step.items() if k in model.model_fields and (k == "do" or v != model.model_fields[k].default)}
    if step.get("objects") is not None:
        keys = [f"{people.numbers[f]}/{n}" for f, _, n in (str(k).rpartition("/") for k in step["objects"]) if f in people.numbers]
        if not keys:
            raise QuiltError(f"The objects of '{step['do']}' are not there any more.")
        who = people.called(keys, by_name=True)
        out |= {"objects": [o for w in who for o in (w.objects or [])]}
        if all(w.files is not None for w in who):
            out["files"] = [f for w in who for f in (w.files or [])]
        if people.keys(Who(files=out.get("files"), objects=out["objects"])) != sorted(keys, key=_order):
            # The same names mean others too in another of these files: a step for each file would be another step.
            raise QuiltError(f"The objects of '{step['do']}' cannot be told by their names.")
    return out


def _order(key: str) -> tuple[int, int]:
    file, _, number = key.partition("/")
    return int(file), int(number)


def numbered(step: BaseModel) -> set[str]:
    """The files of which a step names islands, edges, faces or points by number."""
    found = {f for k in BY_FILE for f in (getattr(step, k, None) or {})}
    return found | {s.file for s in getattr(step, "strokes", None) or []}


def params_of(step: BaseModel, people: People, settings: Mapping[str, Any]) -> dict[str, Any]:
    """The parameters of the job that does a step.

    Raises
    ------
    QuiltError : objects, files or sheets that are not there
    """
    values = step.model_dump(exclude_unset=True, exclude={"do", "files"})
    asked = getattr(step, "objects", None)
    files = getattr(step, "files", None)
    if asked is not None or files is not None:
        keys = people.keys(Who(files=files, objects=asked))
        if not keys:
            raise QuiltError(f"No object is called {' or '.join(asked or ['anything'])} in {' or '.join(files or ['these files'])}.")
        values["objects"] = None
    values = with_files(values, lambda name: people.numbers.get(name, ""))
    if isinstance(values.get("strokes"), list):
        values["strokes"] = [s | {"file": int(s["file"])} for s in values["strokes"]]
    if asked is not None or files is not None:
        values["objects"] = keys
    if values.get("sheets") is not None:
        known = {s["name"]: s["id"] for s in sheets(dict(settings))}
        gone = [s for s in values["sheets"] if s not in known]
        if gone:
            raise QuiltError(f"There is no sheet '{gone[0]}': there are {', '.join(known)}.")
        values["sheets"] = [known[s] for s in values["sheets"]]
    return values
