"""The tables of a saved project as they come in: typed, and bounded where a value goes into the database. See `saving`."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict, Field, field_validator


class Row(BaseModel):
    """What a newer program added is left out."""

    model_config = ConfigDict(extra="ignore")
    id: int


class FileRow(Row):
    """See `models.SourceFile`."""

    name: str = Field(max_length=400)
    original_id: str = Field(pattern="^[0-9a-f]{64}$")
    unit_m: float = Field(ge=1e-6, le=1e6)
    companions: dict[str, str] = {}
    warnings: list[str] = []
    materials: list[dict[str, Any]] = []
    revision: str = Field("", pattern="^([0-9a-f]{64})?$")
    operation: dict[str, Any] = {}
    before_id: int | None = None


class InputsRow(BaseModel):
    """See `stale.inputs_of`."""

    model_config = ConfigDict(extra="ignore")
    recipe: dict[str, str | bool | int | float | None]
    tiles: dict[str, Any]
    files: dict[str, str]
    read: list[Any]
    islands: str
    count: int
    weights: str = ""
    rotations: str = ""
    belongs: str = ""
    held: str = ""
    bunches: str = ""
    twins: str = ""

    @field_validator("read")
    @classmethod
    def _channel(cls, read: list[Any]) -> list[Any]:
        """The channel; older programs went on with files whose islands were joined."""
        return read[:1]


class LayoutRow(Row):
    """See `models.Layout`; its arrays are parts of their own."""

    kind: str = Field(max_length=16)
    name: str = Field("", max_length=120)
    figures: dict[str, Any] = {}
    recipe: dict[str, Any] = {}
    channel: int = Field(0, ge=0, le=7)
    measured: int = 0
    pieces: list[tuple[int, int, int]] = []
    discarded: bool = False
    sheet: int = Field(1, ge=0, le=2**31 - 1)
    inputs: dict[str, Any] = {}

    @field_validator("inputs")
    @classmethod
    def _form(cls, inputs: dict[str, Any]) -> dict[str, Any]:
        return InputsRow(**inputs).model_dump() if inputs else {}


class WorkRow(BaseModel):
    """See `doing`: what is looked at of it before it becomes a step, which is checked as any other."""

    model_config = ConfigDict(extra="allow")
    do: str = Field(max_length=20)
    action: str | None = None
    sheets: list[int] | None = None
    tiles: list[int] | None = None
    objects: list[str] | None = None
    islands: dict[str, list[int]] | None = None
    edges: dict[str, list[list[int]]] | None = None
    faces: dict[str, list[list[int]]] | None = None
    points: dict[str, list[list[int]]] | None = None
    rows: dict[str, list[list[float]]] | None = None
    strokes: list[dict[str, Any]] | None = None


class SnapshotRow(Row):
    """See `models.Snapshot`."""

    parent_id: int | None = None
    label: str = Field(max_length=120)
    layout_id: int | None = None
    files: list[int]
    left_out: list[str] = []
    settings: dict[str, Any] = {}
    kept: dict[str, int] = {}
    work: list[WorkRow] = []


class Tables(BaseModel):
    """All of them; `fresh` as `saving` says."""

    model_config = ConfigDict(extra="ignore")
    project: dict[str, Any] = {}
    files: list[FileRow]
    layouts: list[LayoutRow]
    snapshots: list[SnapshotRow]
    head: int | None
    fresh: dict[str, list[str]] = {}
