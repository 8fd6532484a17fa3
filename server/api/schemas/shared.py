"""What several of the routers take and give."""

from datetime import datetime
from typing import Any, Literal

from ninja import Field, Schema


class Trouble(Schema):
    """Any refusal: one clear sentence."""

    detail: str


class ChangeOut(Schema):
    """A step of somebody's: whose, what, and which revision it made."""

    author: str
    cause: str
    number: int
    created: datetime


class ConflictOut(Schema):
    detail: str
    head: int
    theirs: list[str]
    yours: list[str]
    changes: list[ChangeOut] = Field(description="what was done since, the oldest first")


class PictureOut(Schema):
    """Shapes ``[x1, y1, r1, x2, y2, r2, left]`` a figure, in figure heights, y up; or rings
    ``[x1, y1, x2, y2, …]`` around a body."""

    figures: list[list[list[float]]]
    outlines: list[list[float]] = []


class JobOut(Schema):
    id: int
    kind: str
    title: str
    state: Literal["queued", "running", "done", "failed", "cancelled"]
    progress: float
    message: str
    result: dict[str, Any]
    cancel_requested: bool


class ScopeIO(Schema):
    joints: list[str] | None = None
    groups: list[str] | None = None
    channels: list[str] | None = None
    frames: list[int] | None = Field(None, min_length=2, max_length=2)
    limbs: list[str] | None = None
    owner: str | None = None
    only: list[list[str]] | None = Field(None, description="channels: joint, channel")
    keys: list[list[str | int | float | None]] | None = Field(
        None, description="keys: joint, channel, id, the frame at which it was seen"
    )


class LineOut(Schema):
    line_id: str
    operation: str
    version: int
    params: dict[str, Any]
    scope: ScopeIO
    inputs: dict[str, str | list[str]] = Field(
        {}, description="digests of what it works with, by name"
    )
    aside: str | None = Field(None, description="why it is left out, where it is")


class RevisionOut(Schema):
    id: int
    number: int
    cause: str
    recipe: list[LineOut]
    report: dict[str, Any]
    state: str
    mark: str = Field(description="what the revision's numbers follow from: part of kept addresses")
    keys: int
    created: datetime


class SkinOut(Schema):
    """The body of a skeleton, a skinned mesh: its digest, to be fetched by, and how large it is."""

    digest: str
    triangles: int


class JointOut(Schema):
    name: str
    parent: int
    offset: list[float]
    rest: list[float] = Field(description="local rotation at rest (x, y, z, w)")
    channels: list[str]


class EndSiteOut(Schema):
    parent: int
    offset: list[float]


class ReadingOut(Schema):
    metres_per_unit: float
    up_axis: Literal["x", "y", "z"]
    root_positions: Literal["add", "replace"]
    joint_positions: Literal["add", "replace"]
    ends: list[str]
    roles: list[list[str]] = Field(description="joints and their roles as set by hand")
    floor: float | None = Field(description="height of the floor in the skeleton's unit, if set")


class MarkOut(Schema):
    name: str
    first: int
    last: int


class PropOut(Schema):
    """A thing in the scene; its size in the skeleton's unit."""

    id: int
    name: str
    shape: str
    size: list[float]


class PartnerOut(Schema):
    """The figure of another clip in the scene: see :class:`leancurve.document.partner.Partner`."""

    name: str
    digest: str
    later: int
    moved: list[float]
    turned: float
    muted: bool


class PlantOut(Schema):
    """A part held for a time: see :class:`leancurve.document.plant.Plant`."""

    part: str
    first: int
    last: int
    place: list[float]
    turn: list[float] | None
    with_joint: str
    with_prop: str
    ease_in: int
    ease_out: int
    ease: str
    strength: float
    hips: float
    muted: bool


class CameraIO(Schema):
    """A camera placed in the scene: metres, Y up; its vertical field of view in degrees."""

    position: list[float] = Field(min_length=3, max_length=3)
    target: list[float] = Field(min_length=3, max_length=3)
    fov: float = Field(ge=5, le=120)


class RetargetedOut(Schema):
    """What a clip was retargeted from; ``newest`` is a later revision of it, if it has gone on."""

    clip: int | None
    clip_name: str
    revision: int | None
    target: int | None
    newest: int | None


class NewerTakeOut(Schema):
    id: int
    name: str


class LayerOut(Schema):
    """A correction layer: the joints that it has curves on, by index, with their channels, and the
    shares of those that are masked."""

    id: int
    name: str
    kind: Literal["additive", "channels", "override"]
    space: Literal["parent", "figure"]
    muted: bool
    locked: bool
    channels: dict[int, list[str]]
    mask: dict[int, float]


class PlacementOut(Schema):
    """Where a whole clip stands: moved by ``move`` in the skeleton's unit, turned about the up axis
    by degrees and its path over the floor scaled, both about a point."""

    move: list[float]
    turn: float
    scale: float
    about: list[float]
    muted: bool


class ClipOut(Schema):
    id: int
    name: str
    take: int
    take_name: str
    workspace: int
    skeleton: str
    rate: list[int]
    take_rate: list[int] = Field(description="of the take, as captured")
    evaluation: int = Field(description="how documents are evaluated: part of kept addresses")
    frames: int
    height: float = Field(description="height of the figure at rest, in the skeleton's unit")
    joints: list[JointOut]
    end_sites: list[EndSiteOut]
    skin: SkinOut | None = None
    reading: ReadingOut
    marks: list[MarkOut]
    plants: list[PlantOut]
    props: list[PropOut]
    partners: list[PartnerOut]
    layers: list[LayerOut] = Field(description="correction layers, bottom to top")
    placement: PlacementOut | None = Field(description="where all of it is put, over its layers")
    retargeted: RetargetedOut | None = Field(description="what it was retargeted from, if it was")
    newer_take: NewerTakeOut | None = Field(
        description="a newer version of the take beneath, which it may go on from"
    )
    camera: CameraIO | None
    notes: list[str]
    warnings: list[str]
    head: RevisionOut
    can_undo: bool
    can_redo: bool


class AppendIn(Schema):
    operation: str
    params: dict[str, Any] = {}
    scope: ScopeIO = ScopeIO()
    inputs: dict[str, str | list[str]] | None = Field(
        None, description="digests of other documents it works with, by name"
    )


class RenameIn(Schema):
    name: str = Field(min_length=1, max_length=255)
