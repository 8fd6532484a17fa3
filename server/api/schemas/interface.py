"""What the interface router takes and gives."""

from typing import Any, Literal

from ninja import Field, Schema


class Credentials(Schema):
    username: str = Field(max_length=150)
    password: str = Field(max_length=200)


class OwnPasswordIn(Schema):
    old: str = Field(max_length=200)
    new: str = Field(max_length=200)


class WorkspaceOut(Schema):
    id: int
    name: str
    role: Literal["owner", "editor", "viewer"]


class SessionOut(Schema):
    user: str | None
    workspaces: list[WorkspaceOut]
    runs_studio: bool = False
    reads: list[str] = Field([], description="endings of files that can be brought in")


class PreferencesIO(Schema):
    theme: Literal["chart", "night"] | None = None
    keys: dict[str, str] = {}
    panes: dict[str, float] = {}


class ParamOut(Schema):
    """A parameter as a panel shows it. ``kind`` says which control fits."""

    name: str
    label: str = Field(description="its name in words")
    kind: Literal["number", "integer", "switch", "choice", "several", "text", "other"]
    description: str
    unit: str
    when: dict[str, list[Any]] = Field(description="values of others with which it counts")
    default: Any
    optional: bool
    least: float | None
    most: float | None
    choices: list[str]


class OperationOut(Schema):
    name: str
    title: str
    step: str
    part: str = Field(description="the part of its step, empty where the step has none")
    about: str
    version: int
    ranged: bool
    keyed: bool = Field(description="whether it can be limited to single keys")
    retimes: bool = Field(description="whether it moves time")
    over_all: bool = Field(description="whether it is meant for the whole figure at first")
    scoped: bool = Field(description="whether it can be limited to some joints")
    params: list[ParamOut]


class BrowserError(Schema):
    message: str = Field(max_length=2000)
    stack: str = Field("", max_length=8000)
    url: str = Field("", max_length=500)
