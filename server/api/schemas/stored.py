"""What the stored router takes and gives."""

from datetime import datetime

from ninja import Field, Schema

from api.schemas.shared import PictureOut


class StoredIn(Schema):
    """What a clip shows from one frame to another, to be kept: of one frame it is a pose."""

    revision: int
    name: str = Field(min_length=1, max_length=120)
    tags: list[str] = Field([], max_length=20, description="words to find it by")
    first: int = Field(ge=0)
    last: int = Field(ge=0)
    joints: list[str] = Field([], description="which joints it is about; all where none is named")


class StoredChange(Schema):
    name: str | None = Field(None, min_length=1, max_length=120)
    tags: list[str] | None = Field(None, max_length=20)


class StoredOut(Schema):
    id: int
    name: str
    tags: list[str]
    joints: list[str] = Field(description="which joints it is about")
    frames: int
    state: str = Field(description="the document's digest, to be loaded by")
    picture: PictureOut
    changed: datetime


class StoredPoseIn(Schema):
    """How a clip would stand in a stored pose, at one of its own frames."""

    revision: int
    frame: int = Field(ge=0)
    at: int = Field(0, ge=0, description="which frame of what is stored")
    mirrored: bool = False


class StoredPoseOut(Schema):
    turns: dict[int, list[float]] = Field(description="local rotations (x, y, z, w) by joint")
