"""What the place router takes and gives."""

from datetime import datetime
from typing import Literal

from ninja import Field, Schema

from api.schemas.shared import JobOut


class UsageOut(Schema):
    """What a workspace holds, in bytes and takes, and the most it may."""

    files: int
    deliveries: int
    clips: int = Field(description="what documents, recipes and histories take up")
    bytes: int
    takes: int
    most_bytes: int
    most_takes: int
    nearly_full: bool


class BinnedIn(Schema):
    kind: Literal["take", "clip", "recipe", "stored"]
    id: int


class BinnedOut(Schema):
    kind: str
    id: int
    name: str
    binned: datetime
    until: datetime
    bytes: int
    clips: list[str] = Field(description="clips that go for good with a take")
    kept_for: list[str] = Field(
        description="clips that lie on a take and stay: it stays with them, seen by nobody"
    )


RoleName = Literal["owner", "editor", "viewer"]


class MemberIn(Schema):
    name: str
    role: RoleName


class MemberOut(Schema):
    id: int
    name: str
    role: RoleName


class PersonIn(Schema):
    name: str = Field(min_length=1, max_length=150)
    password: str = Field(max_length=200)
    workspace: int | None = None
    role: RoleName = "editor"
    runs_studio: bool = False


class PasswordIn(Schema):
    password: str = Field(max_length=200)


class WorkspaceIn(Schema):
    name: str = Field(min_length=1, max_length=120)
    owner: str | None = Field(None, description="whoever asks, where nobody is named")


class RoomIn(Schema):
    name: str | None = Field(None, min_length=1, max_length=120, description="null: as it is")
    most_bytes: int | None = Field(None, ge=0)
    most_takes: int | None = Field(None, ge=0, le=1_000_000)


class PlaceOfPerson(Schema):
    name: str
    role: RoleName


class PersonOut(Schema):
    id: int
    name: str
    can_sign_in: bool
    runs_studio: bool
    last_seen: datetime | None
    workspaces: list[PlaceOfPerson]


class WorkspaceRow(Schema):
    id: int
    name: str
    people: int
    usage: UsageOut
    binned_bytes: int


class JobCount(Schema):
    kind: str
    state: str
    count: int


class FailureOut(Schema):
    kind: str
    title: str
    message: str
    workspace: str
    when: datetime


class OverviewOut(Schema):
    """The studio: what runs, who is in it, what it holds, what failed."""

    versions: dict[str, str]
    database_bytes: int
    workers: int
    workspaces: list[WorkspaceRow]
    people: list[PersonOut]
    jobs: list[JobCount]
    coming_in: list[JobOut] = Field(description="workspaces' files on their way in")
    waiting: int
    failures: list[FailureOut]
