"""What the API takes and gives. The browser's types are generated from these."""

from datetime import datetime
from typing import Any, Literal
from uuid import UUID

from ninja import Field, Schema
from pydantic import PositiveInt


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
    runs_place: bool = False


class PreferencesIO(Schema):
    theme: Literal["chart", "night"] | None = None
    keys: dict[str, str] = {}
    panes: dict[str, float] = {}


class FindingOut(Schema):
    kind: str
    joint: str
    channel: str
    first: int
    last: int
    size: float
    unit: str
    severity: float
    accepted: bool


class FindingsOut(Schema):
    findings: list[FindingOut]
    work: float = Field(description="how much work the open ones stand for")


class KindOut(Schema):
    name: str
    plural: str
    meaning: str
    remedy: str = Field(description="the operation that mends it; empty where hand work does")
    step: str


class ContactOut(Schema):
    limb: str
    first: int
    last: int


class ContactsOut(Schema):
    contacts: list[ContactOut]
    by_hand: bool = Field(description="kept in the clip, not found anew")
    floor_mm: float
    floor_set: bool


class JointRoleOut(Schema):
    role: str
    confidence: float
    source: str


class BodyOut(Schema):
    joints: list[JointRoleOut]
    groups: dict[str, list[int]]
    own_groups: dict[str, list[int]]
    roles: list[str] = Field(description="all roles there are")
    profile: str | None = Field(description="the kept profile that fits this skeleton, if any")
    figure: list[list[float]] = Field(
        description="the figure at rest from the front: [joint, x1, y1, r1, x2, y2, r2]"
    )


class ProfileIn(Schema):
    revision: int
    groups: dict[str, list[str]] = {}


class OrderRatingOut(Schema):
    order: str
    strain: float
    nearest_deg: float


class JointOrdersOut(Schema):
    joint: str
    order: str
    ratings: list[OrderRatingOut]


class PictureOut(Schema):
    """Shapes ``[x1, y1, r1, x2, y2, r2, left]`` a figure, in figure heights, y up."""

    figures: list[list[list[float]]]


class TakeOut(Schema):
    id: int
    name: str
    file_name: str
    skeleton: str
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
    picture: PictureOut
    clip: int | None = Field(description="the clip last worked on, if any")
    carried_onto: str | None = Field(description="the skeleton that it was made to be carried onto")
    created: datetime


class JobOut(Schema):
    id: int
    kind: str
    title: str
    state: Literal["queued", "running", "done", "failed", "cancelled"]
    progress: float
    message: str
    result: dict[str, Any]
    cancel_requested: bool


class RefusedFile(Schema):
    name: str
    detail: str


class UploadOut(Schema):
    jobs: list[JobOut]
    refused: list[RefusedFile]


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
    inputs: dict[str, str] = Field({}, description="digests of what it works with, by name")
    aside: str | None = Field(None, description="why it is left out, where it is")


class RecipeLineOut(LineOut):
    told: str
    report: dict[str, Any]
    keys: int


class ParamOut(Schema):
    """A parameter as a panel shows it. ``kind`` says which control fits."""

    name: str
    label: str = Field(description="its name in words")
    kind: Literal["number", "integer", "switch", "choice", "text", "other"]
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
    params: list[ParamOut]


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


class PlantFiguresOut(Schema):
    """What one plant does, millimetres."""

    part: str
    first: int
    last: int
    slide_before_mm: float
    off_after_mm: float
    missed_mm: float
    hips_mm: float


class PlantsOut(Schema):
    """Figures of a clip's plants, of each and of all, and what can be planted here."""

    parts: list[str]
    plants: list[PlantFiguresOut]
    figures: dict[str, float | None]


class LimbOut(Schema):
    """A limb of two bones: its upper, middle and end joint, a foot's ball or the end of its sole,
    and the axis of its bend in the upper joint's own axes."""

    name: str
    joints: list[int]
    ball: int | None
    sole: list[float] | None
    hinge: list[float]


class FootPathOut(Schema):
    """A part's way over some frames, millimetres: from above (x, y as pairs) and its height over
    the floor it rests on, with and without plants."""

    frames: list[int]
    level: list[list[float]]
    level_before: list[list[float]]
    height: list[float]
    height_before: list[float]


class CyclesOut(Schema):
    """Whole cycles of a motion: how many, and how far apart its first and last poses are."""

    first: int
    last: int
    count: int
    gap_deg: float


class CameraIO(Schema):
    """A camera placed in the scene: metres, Y up; its vertical field of view in degrees."""

    position: list[float] = Field(min_length=3, max_length=3)
    target: list[float] = Field(min_length=3, max_length=3)
    fov: float = Field(ge=5, le=120)


class MirrorIn(Schema):
    """A pose's values by joint index and channel, to be had for the other side of the body."""

    revision: int
    frame: float
    values: dict[int, dict[str, float]]


class MirrorOut(Schema):
    values: dict[int, dict[str, float]]


class CarriedOut(Schema):
    """What a clip was carried from; ``newest`` is a later revision of it, if it has gone on."""

    clip: int | None
    clip_name: str
    revision: int | None
    target: int | None
    newest: int | None


class SkeletonOut(Schema):
    """A skeleton to carry onto, as a take has it; one without motion is nothing else."""

    take: int
    state: str = Field(description="what a line names it by")
    name: str
    skeleton: str
    joints: int
    still: bool


class MadeOut(Schema):
    """A clip that was made of another one by carrying it."""

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
    target: int | None = Field(None, description="the one it is carried onto where absent")
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


class CarryIn(Schema):
    revision: int
    targets: list[int] = Field(min_length=1, max_length=20)
    params: dict[str, Any] = {}


class CarryManyIn(Schema):
    takes: list[int] = Field(min_length=1, max_length=200)
    target: int
    params: dict[str, Any] = {}


class CarryPreviewIn(Schema):
    revision: int
    target: int | None = Field(None, description="the one it is carried onto where absent")
    params: dict[str, Any] = {}
    view: str = ""
    sequence: int = 0


class AgainIn(Schema):
    revision: int
    request_id: UUID


class LayerOut(Schema):
    """A correction layer: the joints that it has curves on, by index, with their channels, and the
    shares of those that are masked."""

    id: int
    name: str
    kind: Literal["add", "channels", "replace"]
    space: Literal["parent", "figure"]
    muted: bool
    solo: bool
    locked: bool
    channels: dict[int, list[str]]
    mask: dict[int, float]


class PlacementOut(Schema):
    """Where a whole clip stands: moved by ``move`` in the skeleton's unit, turned about the up axis
    by degrees and its way along the floor scaled, both about a point."""

    move: list[float]
    turn: float
    scale: float
    about: list[float]
    muted: bool


class LayerChangeOut(Schema):
    """What a layer changes: parts of the body, and the most that a joint turns and an end moves."""

    name: str
    parts: list[str]
    max_deg: float
    max_joint: str
    max_frame: int
    max_mm: float
    max_end: str
    max_end_frame: int


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
    reading: ReadingOut
    marks: list[MarkOut]
    plants: list[PlantOut]
    props: list[PropOut]
    layers: list[LayerOut] = Field(description="correction layers, bottom to top")
    placement: PlacementOut | None = Field(description="where all of it is put, over its layers")
    carried: CarriedOut | None = Field(description="what it was carried from, if it was")
    camera: CameraIO | None
    notes: list[str]
    warnings: list[str]
    head: RevisionOut
    can_undo: bool
    can_redo: bool


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


class DriftOut(Schema):
    max_deg: float
    rms_deg: float
    max_joint: str
    max_frame: int
    max_mm: float
    rms_mm: float
    max_end: str
    max_end_frame: int
    end_max_mm: dict[str, float]


class PlaceOut(Schema):
    """The largest of a measure, its RMS, and where: a joint's or an end's name, and its frame."""

    size: float
    rms: float
    name: str
    frame: int


class MendedOut(Schema):
    """A stretch that was put right, by how much, and how far it is from what those around it
    predict."""

    joints: list[str]
    first: int
    last: int
    deg: float
    mm: float
    off_deg: float | None


class LineDriftOut(Schema):
    """What one line did by itself."""

    line_id: str
    told: str
    kind: Literal["continuity", "mend", "calm", "thin", "plant", "carry", "hand", "layer", "place"]
    deg: PlaceOut
    mm: PlaceOut
    mended: list[MendedOut]


class AccountOut(Schema):
    """What a recipe did: what calm and thin cost together, what was mended, line by line."""

    cost_deg: PlaceOut
    cost_mm: PlaceOut
    mended: list[MendedOut]
    lines: list[LineDriftOut]


class BoughtOut(Schema):
    """A tolerance, the provable minimum of keys, and about how many it will need."""

    tolerance_deg: float
    minimum: int
    keys: int


class TolerancesOut(Schema):
    """What tolerances buy, and the one that the take's noise proposes."""

    noise_deg: float
    proposed_deg: float
    bought: list[BoughtOut]


class AppendIn(Schema):
    operation: str
    params: dict[str, Any] = {}
    scope: ScopeIO = ScopeIO()
    inputs: dict[str, str] | None = Field(
        None, description="digests of other documents it works with, by name"
    )


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
    recipe: int | None = Field(None, description="append all lines of a kept recipe; 0: all of it")
    swap: int | None = Field(None, description="put another take beneath the recipe")


class PrepareIn(Schema):
    """A line whose work is begun ahead of its write, on a revision."""

    revision: int
    line: AppendIn
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


class RecipeIn(Schema):
    name: str = Field(min_length=1, max_length=120)
    lines: list[AppendIn] = Field(min_length=1, max_length=200)
    rate: tuple[PositiveInt, PositiveInt] | None = Field(
        None, description="of the take they were made on"
    )


class RecipeOut(Schema):
    id: int = Field(description="0 is the built-in recipe")
    name: str
    lines: list[AppendIn]
    told: list[str]


class BatchIn(Schema):
    recipe: int
    takes: list[int] = Field(min_length=1)


class BatchRowOut(Schema):
    job: int
    take: int
    name: str
    state: Literal["queued", "running", "done", "failed", "cancelled"]
    progress: float
    message: str
    result: dict[str, Any]


class BatchOut(Schema):
    id: int
    name: str
    told: list[str]
    created: datetime
    rows: list[BatchRowOut]


class OnRevision(Schema):
    revision: int


class JumpIn(OnRevision):
    to: int = Field(description="the revision that becomes the head")


class PreviewIn(Schema):
    revision: int
    operation: str
    params: dict[str, Any] = {}
    scope: ScopeIO = ScopeIO()
    inputs: dict[str, str] | None = Field(
        None, description="digests of other documents it works with, by name"
    )
    line: str | None = Field(
        None, description="preview a change of this line of the recipe, on what stood before it"
    )
    view: str = Field("", max_length=64, description="who asks: a page's own id")
    sequence: int = Field(0, description="the asker's count: a higher one ends lower ones")
    joints: list[str] = Field(
        default=[], description="only these joints' curves come back; empty: the whole clip"
    )


class RenameIn(Schema):
    name: str = Field(min_length=1, max_length=255)


class DeliverIn(Schema):
    revision: int
    format: Literal["bvh", "json"] = "bvh"
    rate: list[int] = Field(min_length=2, max_length=2)
    first: int = Field(ge=0)
    last: int = Field(ge=0)
    pattern: str = Field("{character}_{action}_v{version:03}", min_length=1, max_length=120)
    character: str = Field(max_length=60)
    action: str = Field(max_length=60)
    version: int | None = Field(
        None, ge=1, le=99999, description="the next that is free when absent"
    )
    props: bool = Field(False, description="props as joints of their own roots, in BVH")


class DeliveryOut(Schema):
    id: int
    file_name: str
    size: int
    revision: int
    report: dict[str, Any]
    created: datetime


class BrowserError(Schema):
    message: str = Field(max_length=2000)
    stack: str = Field("", max_length=8000)
    url: str = Field("", max_length=500)


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


class AroundLineOut(Schema):
    """The documents before and after a line, by digest, to be worked with by another one."""

    before: str
    after: str


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
    runs_place: bool = False


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
    runs_place: bool
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
    """The place: what runs, who is in it, what it holds, what failed."""

    versions: dict[str, str]
    database_bytes: int
    workers: int
    workspaces: list[WorkspaceRow]
    people: list[PersonOut]
    jobs: list[JobCount]
    coming_in: list[JobOut] = Field(description="workspaces' files on their way in")
    waiting: int
    failures: list[FailureOut]


class HereIn(Schema):
    page: str = Field(min_length=1, max_length=64, description="the page's own id")
    revision: int = Field(description="the head that the page shows")


class HereOut(Schema):
    """Who else is on a clip, and what has been done since the head that a page shows."""

    head: int
    others: list[str]
    changes: list[ChangeOut]
