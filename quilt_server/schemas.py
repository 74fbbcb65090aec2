"""What goes over the API, typed."""

from typing import Any

from ninja import Schema


class ProjectOut(Schema):
    id: int
    name: str
    modified: str
    demo: bool
    deleted: bool
    objects: int


class Density(Schema):
    median: float
    least: float
    greatest: float


class ObjectOut(Schema):
    key: str
    file: int
    number: int
    name: str
    path: str
    materials: list[str]
    triangles: int
    islands: int
    first_island: int
    channels: list[int]
    world_area: float
    left_out: bool
    shares: list[str]
    weight: float
    points: int
    density: Density | None


class FileOut(Schema):
    id: int
    name: str
    warnings: list[str]


class Overlap(Schema):
    pairs: int
    self: int
    px: float


class Figures(Schema):
    map_px: int
    islands: int
    coverage: float
    density: float | None
    smallest_gap_px: float | None
    smallest_margin_px: float | None
    overlap: Overlap
    outside: int
    flipped: int
    limiting: list[str] = []
    seconds: float | None = None


class TryOut(Schema):
    id: int
    name: str
    figures: Figures
    padding_px: float
    kept: bool


class Settings(Schema):
    map_px: int
    padding_px: float
    margin_px: float
    rotate: str
    hold: bool
    density: float
    keep_ratios: bool
    seconds: float
    seed: int
    channel_in: int = 0
    channel_out: int = 0
    band: float = 10.0
    density_least: float | None = None
    density_greatest: float | None = None
    weights: dict[str, float] = {}
    turns: dict[str, str] = {}
    held: list[str] = []


class FaultOut(Schema):
    kind: str
    heavy: int
    count: int
    title: str
    detail: str
    remedy: str
    repair: str
    islands: list[tuple[int, int]]
    places: list[tuple[float, float, float]]


class StateOut(Schema):
    id: int
    name: str
    snapshot: int | None
    undo: str | None
    redo: str | None
    settings: Settings
    channels: list[int]
    files: list[FileOut]
    objects: list[ObjectOut]
    layout: int | None
    figures: Figures | None
    packed: bool
    tries: list[TryOut]
    job: int | None


class JobOut(Schema):
    id: int
    kind: str
    state: str
    progress: dict[str, Any]
    error: str
    result: dict[str, Any]


class Name(Schema):
    name: str


class Change(Schema):
    base: int
    settings: Settings | None = None
    left_out: list[str] | None = None
    layout: int | None = None


class JobIn(Schema):
    kind: str
    base: int
    params: dict[str, Any] = {}


class Step(Schema):
    base: int


class Discard(Schema):
    base: int
    layout: int
    discarded: bool = True
