"""What the takes router takes and gives."""

from datetime import datetime

from ninja import Field, Schema
from pydantic import PositiveInt

from api.schemas.shared import JobOut, PictureOut


class NowOut(Schema):
    """A take's clip as it stands."""

    revision: int
    frames: int
    rate: list[int]
    keys: int


class SourceOut(Schema):
    """What a take was retargeted from."""

    take: int
    name: str
    behind: bool = Field(description="the source has changed since")


class ChoicesIn(Schema):
    """How to read a file otherwise than its numbers suggest; what is absent follows them."""

    rate: list[PositiveInt] | None = Field(
        None, min_length=2, max_length=2, description="frames a second: numerator, denominator"
    )
    order: str | None = Field(None, description="of all joints' angles, such as ZXY")
    orders: dict[str, str] = Field({}, description="of single joints, by name")
    within_deg: float | None = Field(
        None, description="rotations stay keyed, within so many degrees between frames too"
    )


class TakeOut(Schema):
    id: int
    name: str
    file: int = Field(description="the file that it came in; other takes may have come in it too")
    file_name: str
    of_its_file: int
    """How many takes came in its file."""
    skeleton: str
    triangles: int = Field(description="of its skeleton's body; 0 where it has none")
    rate: list[int] = Field(description="frames a second: numerator, denominator")
    frames: int
    joints: int
    channels: int
    keys: int
    notes: list[str]
    warnings: list[str]
    findings: dict[str, int] = Field(description="open findings by kind, as captured")
    left: dict[str, int] | None = Field(description="open findings of its clip, if it has one")
    work: float = Field(description="how much work the open findings stand for")
    now: NowOut | None = Field(None, description="its clip, where work was done on it")
    source: SourceOut | None = None
    picture: PictureOut
    choices: ChoicesIn = Field(description="how its file was read otherwise than it suggests")
    clip: int | None = Field(description="the clip last worked on, if any")
    retargeted_onto: str | None = Field(
        description="the skeleton that it was made to be retargeted onto"
    )
    created: datetime


class RefusedFile(Schema):
    name: str
    detail: str


class UploadOut(Schema):
    jobs: list[JobOut]
    refused: list[RefusedFile]
