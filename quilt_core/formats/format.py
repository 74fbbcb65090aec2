"""What a file format is to the rest of the program. Every format is one folder here, with these modules, each with one function of its name:

read : the bytes of a file into a `Scene`
write : the file again with new UVs, and nothing else changed
revise : the file with UVs made anew, whose seams may be others
rearrange : the file with new UVs and with its UV channels copied, moved, named or left out; formats of one channel need none
rewire : its materials pointed at new pictures
normals : the normals that the file has, in the corners of a mesh's triangles
export : a model of any origin as a file of this format
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from importlib import import_module
from typing import Any, Protocol, cast

from ..model.scene import Floats, Scene, UvChannel
from .channels import Arrangement
from .model import Model
from .wiring import Rewired, Wiring

Files = dict[str, bytes]


class _Read(Protocol):
    def __call__(self, data: bytes, file: str, unit_m: float, resources: Mapping[str, bytes]) -> Scene: ...


class _Write(Protocol):
    def __call__(self, scene: Scene, uvs: Mapping[int, Floats], channel: int) -> Files: ...


class _Revise(Protocol):
    def __call__(self, scene: Scene, channels: Mapping[int, UvChannel], channel: int) -> Files: ...


class _Rearrange(Protocol):
    def __call__(self, scene: Scene, uvs: Mapping[int, Floats], how: Arrangement) -> Files: ...


class _Rewire(Protocol):
    def __call__(self, scene: Scene, written: Mapping[str, bytes], beside: Mapping[str, bytes], wiring: Wiring) -> Rewired: ...


class _Normals(Protocol):
    def __call__(self, scene: Scene, mesh: int) -> Floats | None: ...


class _Export(Protocol):
    def __call__(self, model: Model, name: str, ending: str) -> Files: ...


@dataclass(frozen=True)
class Format:
    """A format and what it can hold.

    package : where its modules are; they are loaded when they are first needed, since some libraries take long to load
    name, title : for `Scene.format`, and for people
    endings : of files that are read, lower case with the dot
    exports : what it is written as: the ending without its dot, and the words for it
    one_channel : a file holds one UV channel only; names_channels : it names them
    says_unit : a file says how long its unit is
    triangles : it knows no faces of more than three corners
    bare : what becomes of corners without UVs in an export: "zero", "zero by channel" (none where the mesh lacks it), or they are "left out"
    lists_pictures : a file lists its pictures itself, used or not, so they stay with it
    libraries : endings of companions that are replaced when its materials are
    slow : its library takes long to load, so it is loaded only when it is needed
    kinds : of map that its materials have in an export; holds : what else an export holds (see `losses`)
    pictures : what its pictures may be, as `pictures.kind_of` names them; empty for anything; pictures_inside : they are in the file itself
    parts : its materials choose the channel that counts; scales : and what a picture is multiplied by
    """

    package: str
    name: str
    title: str
    endings: tuple[str, ...]
    exports: Mapping[str, str] = field(default_factory=dict)
    one_channel: bool = False
    names_channels: bool = False
    says_unit: bool = True
    triangles: bool = False
    bare: str = "left out"
    lists_pictures: bool = False
    libraries: tuple[str, ...] = ()
    slow: bool = False
    kinds: frozenset[str] = frozenset()
    holds: frozenset[str] = frozenset()
    pictures: frozenset[str] = frozenset()
    pictures_inside: bool = False
    parts: bool = False
    scales: bool = False

    def _part(self, name: str) -> Any:
        return getattr(import_module(f"{self.package}.{name}"), name)

    @property
    def read(self) -> _Read:
        """See `formats.read`."""
        return cast(_Read, self._part("read"))

    @property
    def write(self) -> _Write:
        """See `formats.write`."""
        return cast(_Write, self._part("write"))

    @property
    def revise(self) -> _Revise:
        """See `formats.revise`."""
        return cast(_Revise, self._part("revise"))

    @property
    def rearrange(self) -> _Rearrange:
        """See `formats.rearrange`."""
        return cast(_Rearrange, self._part("rearrange"))

    @property
    def rewire(self) -> _Rewire:
        """See `formats.rewire`."""
        return cast(_Rewire, self._part("rewire"))

    @property
    def normals(self) -> _Normals:
        """See `formats.normals`."""
        return cast(_Normals, self._part("normals"))

    @property
    def export(self) -> _Export:
        """See `formats.export`."""
        return cast(_Export, self._part("export"))
