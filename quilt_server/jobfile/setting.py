"""From a job to the settings of a project: what it decides as a whole, and its rules on the objects and islands that there are."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from quilt_core.errors import QuiltError
from quilt_core.words import counted

from ..checks import check, whole_settings
from ..projects.sheets import IN_RECIPE, sheets
from ..projects.state import RECIPE
from ..schemas.settings import Settings
from .model import JobFile, Rule, Who
from .who import People

_BY_RULE = {"weight": "weights", "rotate": "rotations", "tile": "tile_of"}


def recipe_of(job: JobFile) -> dict[str, Any]:
    """The job's own recipe with its map size; gaps that it does not say are scaled with the map."""
    r = job.recipe
    padding = 8.0 * r.map_px / 2048 if r.padding_px is None else r.padding_px
    return r.model_dump() | {"padding_px": padding, "margin_px": padding / 2 if r.margin_px is None else r.margin_px}


def settings_of_job(job: JobFile) -> dict[str, Any]:
    """What the job decides whatever the files hold.

    Raises
    ------
    QuiltError : settings that cannot work, in words
    """
    own = recipe_of(job)
    out = RECIPE | own
    out["recipes"] = {name: {k: own[k] for k in IN_RECIPE} | r.model_dump(exclude_none=True) for name, r in job.recipes.items()}
    out["sheets"] = [s.model_dump(exclude={"id"}) | {"id": s.id or n + 1} for n, s in enumerate(job.sheets)]
    out |= {"channel_in": job.input.channel, "channel_out": job.out.channel, "channel_names": dict(job.out.names)}
    out |= {"band": job.check.band, "density_least": job.check.density_least, "density_greatest": job.check.density_greatest}
    out |= {"bunch_objects": job.together.objects, "apart_px": job.together.apart_px}
    out = whole_settings(out)
    check(Settings(**out))
    return out


@dataclass
class Ruled:
    """Settings with rules, the objects that are left out, and in words what found nobody or was for other files."""

    settings: dict[str, Any]
    left_out: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def ruled(job: JobFile, people: People, settings: Mapping[str, Any], strangers: frozenset[int], islands: bool) -> Ruled:
    """The settings of a project with the job's rules on what it holds.

    Parameters
    ----------
    strangers : files that are others than those of which islands were written down by number
    islands : whether rules for islands are taken, too; not while their numbers may change

    Raises
    ------
    QuiltError : a rule that cannot work
    """
    return _Rules(job, people, settings, strangers, islands).all()


class _Rules:
    def __init__(self, job: JobFile, people: People, settings: Mapping[str, Any], strangers: frozenset[int], islands: bool) -> None:
        self.job, self.people, self.strangers, self.with_islands = job, people, strangers, islands
        self.out = Ruled(dict(settings))
        self.ids = {s["name"]: s["id"] for s in sheets(dict(settings))}

    def all(self) -> Ruled:
        """Rules one after the other, then what goes by groups."""
        values: dict[str, dict[str, Any]] = {k: {} for k in (*_BY_RULE.values(), "sheet_of", "held", "left_out")}
        for n, r in enumerate(self.job.rules):
            self._rule(n + 1, r, values)
        s = self.out.settings
        s |= {k: values[k] for k in (*_BY_RULE.values(), "sheet_of")}
        s["held"] = [k for k, v in values["held"].items() if v]
        self.out.left_out = [k for k, v in values["left_out"].items() if v]
        self._groups()
        check(Settings(**s))
        return self.out

    def _rule(self, number: int, r: Rule, values: dict[str, dict[str, Any]]) -> None:
        given = r.model_dump(exclude_none=True, include={*_BY_RULE, "sheet", "held", "left_out"})
        if not given:
            raise QuiltError(f"rules[{number}] says nothing: give it a weight, rotate, sheet, tile, held or left_out.")
        if r.left_out is not None and (r.islands is not None or r.materials is not None):
            raise QuiltError(f"rules[{number}] leaves out islands: whole objects are left out, so name objects.")
        keys = self._keys(r, f"rules[{number}]")
        for what, value in given.items():
            if what == "sheet":
                if value not in self.ids:
                    raise QuiltError(f"rules[{number}] names the sheet '{value}': there are {', '.join(self.ids)}.")
                value = self.ids[value]
            into = values[{"sheet": "sheet_of"}.get(what) or _BY_RULE.get(what, what)]
            for key in keys:
                # The later rule holds, and stands later.
                into.pop(key, None)
                into[key] = value

    def _keys(self, who: Who, place: str, islands: bool = False) -> list[str]:
        """Whom a rule is for; nobody where it is for islands and those are not numbered yet, or are numbered otherwise."""
        if (who.islands is not None or who.materials is not None or islands) and not self.with_islands:
            return []
        found = self.people.islands(who) if islands else self.people.keys(who)
        if who.islands is not None:
            foreign = {k for k in found if int(k.partition(":")[0]) in self.strangers}
            if foreign:
                self.out.notes.append(
                    f"{place} is for islands by number of other files than these: {counted(len(foreign), 'island was', 'islands were')} left as they are."
                )
            found = [k for k in found if k not in foreign]
            if foreign:
                return found
        if not found:
            self.out.notes.append(f"{place} is for nothing that is here.")
        return found

    def _members(self, members: Iterable[Who], place: str, islands: bool) -> list[str]:
        return list(dict.fromkeys(k for who in members for k in self._keys(who, place, islands)))

    def _groups(self) -> None:
        job, s = self.job, self.out.settings
        if job.twins:
            s["twins"] = [g for n, t in enumerate(job.twins) if len(g := self._members(t.members, f"twins[{n + 1}]", True)) > 1]
        if job.bunches:
            found = [(b, self._members(b.members, f"bunches[{n + 1}]", False)) for n, b in enumerate(job.bunches)]
            s["bunches"] = [{"name": b.name, "strict": b.strict, "members": m} for b, m in found if m]
        if job.links:
            linked = [(x, self._members(x.members, f"links[{n + 1}]", False)) for n, x in enumerate(job.links)]
            s["links"] = [{"onto": x.onto, "members": m} for x, m in linked if len(m) > 1]
