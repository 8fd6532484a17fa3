"""What the clips router takes and gives."""

from datetime import datetime
from typing import Any
from uuid import UUID

from ninja import Field, Schema

from api.schemas.shared import AppendIn, ChangeOut, LineOut, ScopeIO


class RecipeLineOut(LineOut):
    told: str
    report: dict[str, Any]
    keys: int


class HistoryOut(Schema):
    id: int
    parent: int | None
    number: int
    cause: str
    created: datetime
    head: bool


class StorageOut(Schema):
    """What a clip's whole history holds in the database, equal channels counted once."""

    bytes: int
    revisions: int


class EditLineIn(AppendIn):
    line_id: str


class WriteIn(Schema):
    """A change of the recipe, made on a revision; ``request_id`` makes it safe to send twice."""

    revision: int
    request_id: UUID
    after: list[UUID] = Field(
        [],
        max_length=1000,
        description="writes seen beside that revision: one's own that were on their way",
    )
    append: AppendIn | None = None
    edit: EditLineIn | None = None
    remove: str | None = None
    recipe: int | None = Field(
        None, description="append all lines of a kept recipe; 0: all of it; -1: and feet planted"
    )
    swap: int | None = Field(None, description="put another take beneath the recipe")
    goes_on: UUID | None = Field(
        None,
        description="the write whose step of the history an appended line belongs to, if that step "
        "still stands",
    )


class SwapOut(Schema):
    """What has no place on another take, and is set aside if that one is put beneath a recipe."""

    lines: list[str] = Field(description="whole lines of the recipe, in words")
    edits: int = Field(description="edits of keys and spans in the other lines")


class PrepareIn(Schema):
    """A line, or a recipe, whose work is begun ahead of its write, on a revision."""

    revision: int
    line: AppendIn | None = None
    recipe: int | None = Field(None, description="as in a write, in the place of a line")
    in_place_of: str | None = Field(None, description="the line that it would change")


class RefitIn(Schema):
    revision: int
    scope: ScopeIO = ScopeIO()


class RefitOut(Schema):
    keys: list[dict[str, Any]] = Field(description="the edits of the keys, for the operation edit")


class MovedIn(Schema):
    """Frames of one revision whose places on a later one are asked for."""

    since: int
    revision: int
    frames: list[int] = Field(max_length=10_000)


class MovedOut(Schema):
    frames: list[int | None] = Field(description="where each lies; null where it is no more")


class SpanIn(Schema):
    first: int = Field(ge=0)
    last: int = Field(ge=0)
    name: str = Field("", max_length=200)
    loop: bool = Field(False, description="closed over all of it, to be gone round")


class PartsIn(Schema):
    """Spans of a clip that shall be clips of their own; ``request_id`` makes it safe to send
    twice."""

    revision: int
    request_id: UUID
    spans: list[SpanIn] = Field(min_length=1, max_length=20)


class PartOut(Schema):
    clip: int
    name: str


class VersionIn(Schema):
    """A revision that shall be the take's next version; ``request_id`` makes it safe to send
    twice."""

    revision: int
    request_id: UUID


class VersionOut(Schema):
    """A version of a take, and the clips that lie on an older one."""

    take: int
    name: str
    clips: list[PartOut]


class SwapsIn(Schema):
    clips: list[int] = Field(min_length=1, max_length=200)
    request_id: UUID


class OnRevision(Schema):
    revision: int


class JumpIn(OnRevision):
    to: int = Field(description="the revision that becomes the head")


class HereIn(Schema):
    page: str = Field(min_length=1, max_length=64, description="the page's own id")
    revision: int = Field(description="the head that the page shows")


class HereOut(Schema):
    """Who else is on a clip, and what has been done since the head that a page shows."""

    head: int
    others: list[str]
    changes: list[ChangeOut]
