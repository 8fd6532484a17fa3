"""What the retargeting router takes and gives."""

from typing import Any, Literal
from uuid import UUID

from ninja import Field, Schema


class SkeletonOut(Schema):
    """A skeleton to retarget onto, as a take has it; one without motion is nothing else."""

    take: int
    state: str = Field(description="what a line names it by")
    name: str
    skeleton: str
    joints: int
    still: bool


class MadeOut(Schema):
    """A clip that was made of another one by retargeting it."""

    clip: int
    name: str
    revision: int | None = Field(description="the number of the source's revision")
    current: bool = Field(description="whether the source has not gone on since")


class ChainIO(Schema):
    source: list[str] = Field(
        min_length=2, max_length=2, description="the chain that is followed: first and last joint"
    )
    target: list[str] = Field(
        min_length=2, max_length=2, description="the chain that follows it: first and last joint"
    )


class MapIn(Schema):
    revision: int
    target: int | None = Field(None, description="the one it is retargeted onto where absent")
    joints: dict[str, str] | None = Field(None, description="set by hand; as kept where absent")
    chains: list[ChainIO] | None = Field(None, description="set by hand; as kept where absent")


class LinkOut(Schema):
    target: str
    role: str
    sources: list[str]
    weights: list[float]
    how: Literal["joint", "chain", "twist", "follows", "hand"]
    confidence: float
    word: str


class FigureOut(Schema):
    """A figure at rest in metres: left, up, forward."""

    names: list[str]
    parents: list[int]
    points: list[list[float]]
    height: float
    is_pose: bool


class MapOut(Schema):
    links: list[LinkOut]
    unused: list[str] = Field(description="source joints that give nothing")
    joints: dict[str, str] = Field(description="set by hand for the pair")
    chains: list[ChainIO] = Field(description="set by hand for the pair")
    rest: dict[str, list[float]]
    source: FigureOut
    target: FigureOut


class RetargetIn(Schema):
    revision: int
    targets: list[int] = Field(min_length=1, max_length=20)
    params: dict[str, Any] = {}


class RetargetManyIn(Schema):
    takes: list[int] = Field(min_length=1, max_length=200)
    target: int
    params: dict[str, Any] = {}


class JoinManyIn(Schema):
    takes: list[int] = Field(min_length=2, max_length=50)


class RetargetPreviewIn(Schema):
    revision: int
    target: int | None = Field(None, description="the one it is retargeted onto where absent")
    params: dict[str, Any] = {}
    view: str = ""
    sequence: int = 0


class AgainIn(Schema):
    revision: int
    request_id: UUID
