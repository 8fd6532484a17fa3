"""What the router of joins takes."""

from typing import Any
from uuid import UUID

from ninja import Field, Schema


class SeamsIn(Schema):
    revision: int
    params: dict[str, Any] = {}
    inputs: dict[str, list[str]] = Field(description="digests of the clips that follow: parts")
    line: str | None = Field(None, description="the line of the recipe that joins, to be changed")
    seam: int = Field(0, description="which seam, the first one being 0")


class PartSourceOut(Schema):
    """The clip that a document was taken from, and what stands in it now."""

    state: str
    clip: int
    name: str
    revision: int = Field(description="one of the clip's that stands so")
    newest: str


class MeetIn(Schema):
    revision: int
    request_id: UUID
    partner: str = Field(max_length=60, description="the name of the clip's partner")
    joint: str = Field(max_length=255, description="the hand of this clip's figure")
    theirs: str = Field(max_length=255, description="the hand of the partner's")
    first: int = Field(ge=0, description="the clip's frames on which both are held, both included")
    last: int = Field(ge=0)
