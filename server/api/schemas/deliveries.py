"""What the deliveries router takes and gives."""

from datetime import datetime
from typing import Any, Literal

from leancurve.delivery.preset import Preset
from ninja import Field, Schema


class Called(Schema):
    """What files are called by, where it is not the clip's and its skeleton's own name."""

    character: str = Field("", max_length=60)
    action: str = Field("", max_length=60)
    version: int | None = Field(
        None, ge=1, le=99999, description="the next that is free when absent"
    )


class DeliverIn(Called, Preset):
    """A clip's frames, in the form that the fields of a preset say; ``preset`` is its name."""

    revision: int
    first: int = Field(ge=0)
    last: int = Field(ge=0)
    preset: str = Field("", max_length=120)

    def form(self) -> dict[str, Any]:
        """The fields of the preset."""
        return self.model_dump(mode="json", include=set(Preset.model_fields))


class FileOut(Schema):
    """A file that a delivery would make."""

    name: str
    taken: bool = Field(description="a delivery of that name is there already")
    bytes: int = Field(description="roughly")
    frames: list[int]


class DeliveryOut(Schema):
    id: int
    file_name: str
    size: int
    revision: int
    delivery: int | None = Field(description="the number of the delivery that it was made in")
    handed: int | None = Field(description="by which its report is asked for")
    preset: dict[str, Any]
    changed: list[str] | None = Field(
        description="what was done to the clip since; None where steps in it were undone or changed"
    )
    report: dict[str, Any]
    created: datetime


class PresetIn(Schema):
    values: dict[str, Any]


class PresetOut(Schema):
    id: int = Field(description="0 and below: one that comes with the application")
    name: str
    values: Preset


class HandoverIn(Schema):
    """Clips by their takes on the shelf, and presets by their numbers."""

    takes: list[int] = Field(min_length=1, max_length=500)
    presets: list[int] = Field(min_length=1, max_length=12)
    again: bool = Field(False, description="also what has not changed since it was delivered so")


class InsideOut(Schema):
    """A file of another clip that holds a clip too."""

    name: str
    clip: str = Field(description="whose file it is")
    handed: int = Field(description="that clip in the same delivery")
    file: int | None = Field(description="the delivered file, where it was made")


class HandedOut(Schema):
    id: int
    clip: int
    name: str
    state: Literal["queued", "running", "done", "failed", "cancelled", "unchanged"]
    progress: float
    message: str
    revision: int
    unchanged: int | None = Field(description="the delivery that has it as it still is")
    planned: list[str] = Field(description="the names of its files")
    refused: list[dict[str, str]]
    files: list[DeliveryOut]
    inside: list[InsideOut]
    findings: dict[str, int] | None
    keys: int | None


class HandoverOut(Schema):
    id: int
    number: int
    author: str
    created: datetime
    presets: list[str]
    clips: list[HandedOut]


class HandoverTold(Schema):
    """A delivery in short, for the shelf."""

    id: int
    number: int
    created: datetime
    clips: int
    open: int
    failed: int
