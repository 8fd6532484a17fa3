"""What a workspace's file says (:mod:`studio.portable`): names, numbers and texts within bounds.

Nothing of it is believed: :mod:`studio.checking` looks at what it says and at all that it holds.
"""

from typing import Annotated, Any, Literal

from leancurve.delivery.preset import Preset
from pydantic import AliasChoices, AwareDatetime, BaseModel, ConfigDict, Field

WHAT = "Lean Curve workspace"
VERSION = 4
READ = range(1, VERSION + 1)
"""Versions that are read: 1 had no joint maps and did not say what a clip was retargeted from; 2
had no bodies, 3 no versions of takes."""
LARGEST = 2**31 - 1

Name = Annotated[str, Field(max_length=300)]
Sha = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
Id = Annotated[int, Field(ge=1, le=2**53)]
Count = Annotated[int, Field(ge=0, le=LARGEST)]
Positive = Annotated[int, Field(ge=1, le=LARGEST)]
Finite = Annotated[float, Field(allow_inf_nan=False)]
Rate = tuple[Positive, Positive]
Point = tuple[Finite, Finite, Finite]
Names = Annotated[list[Name], Field(max_length=5_000)]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid")


class ToldSkeleton(_Part):
    name: Name
    digest: Sha
    joints: Positive
    skin: Sha | Literal[""] = ""
    triangles: Count = 0


class ToldProfile(_Part):
    name: Annotated[str, Field(max_length=120)]
    names: Names
    roles: dict[Name, Name]
    groups: dict[Name, Names]


class ToldChain(_Part):
    source: tuple[Name, Name]
    target: tuple[Name, Name]


class ToldMap(_Part):
    """What was set by hand between two skeletons."""

    source: Names
    target: Names
    joints: dict[Name, Name]
    chains: Annotated[list[ToldChain], Field(max_length=1_000)]
    rest: dict[Name, Point]


class ToldRecipe(_Part):
    name: Annotated[str, Field(max_length=120)]
    lines: Annotated[list[dict[str, Any]], Field(max_length=1_000)]
    rate: Rate | None


class ToldPicture(_Part):
    """Figures of shapes: lines of four numbers, or tapered ones of seven; rings around a body."""

    figures: Annotated[
        list[
            Annotated[
                list[Annotated[list[Finite], Field(min_length=4, max_length=7)]],
                Field(max_length=5_000),
            ]
        ],
        Field(max_length=50),
    ] = []
    outlines: Annotated[
        list[Annotated[list[Finite], Field(max_length=10_000)]], Field(max_length=500)
    ] = []


class ToldStored(_Part):
    name: Annotated[str, Field(max_length=120)]
    tags: Annotated[list[Annotated[str, Field(max_length=40)]], Field(max_length=50)]
    joints: Names
    frames: Count
    state: Sha
    picture: ToldPicture


class ToldRetargeted(_Part):
    """What a take was made of: a revision, onto which take's skeleton if it was to be retargeted,
    and which take it is the next version of, if it is one."""

    source: Id | None
    target: Id | None
    version_of: Id | None = None


class ToldChoices(_Part):
    """How a take's file was read otherwise than its numbers suggest."""

    rate: Rate | None = None
    order: Name | None = None
    orders: dict[Name, Name] = {}
    within_deg: Finite | None = None


class ToldTake(_Part):
    """A take, and where its file lies in the zip. One that is ``hidden`` is in no bin and on no
    shelf, but beneath revisions."""

    id: Id
    name: Name
    file: str
    file_name: Name
    state: Sha
    skeleton: Sha
    rate: Rate
    frames: Count
    joints: Count
    channels: Count
    keys: Annotated[int, Field(ge=0, le=2**53)]
    notes: Annotated[list[Annotated[str, Field(max_length=1_000)]], Field(max_length=200)]
    warnings: Annotated[list[Annotated[str, Field(max_length=1_000)]], Field(max_length=200)]
    picture: ToldPicture
    part: Annotated[int, Field(ge=0, lt=2**15)] = 0
    choices: ToldChoices = ToldChoices()
    hidden: bool = False
    retargeted: ToldRetargeted | None = Field(
        None,
        validation_alias=AliasChoices("retargeted", "carried"),  # its name in older files
    )


class ToldRevision(_Part):
    id: Id
    take: Id | None
    parent: Id | None
    number: Positive
    lines: Annotated[list[Sha], Field(min_length=1, max_length=10_000)]
    state: Sha
    before: Sha | None
    take_state: Sha | None
    cause: Annotated[str, Field(max_length=200)]
    report: dict[str, Any]
    author: Name
    created: AwareDatetime


class ToldCamera(_Part):
    position: Point
    target: Point
    fov: Annotated[float, Field(ge=5, le=120)]


class ToldClip(_Part):
    id: Id
    take: Id
    name: Name
    camera: ToldCamera | None
    head: Id
    tip: Id
    chosen: list[Sha] = []
    revisions: list[ToldRevision]


class ToldPreset(_Part):
    name: Annotated[str, Field(min_length=1, max_length=120)]
    values: Preset


class ToldDelivery(_Part):
    clip: Id
    revision: Id
    file: str
    file_name: Annotated[str, Field(min_length=1, max_length=160)]
    preset: Preset | None = None
    report: dict[Annotated[str, Field(max_length=60)], Finite | Name | Rate | None]


class ToldState(_Part):
    """A state: its header, its tracks' digests one after another, and how it was made."""

    header: Sha
    manifest: str = Field(pattern=r"^([0-9a-f]{64})*$")
    keys: Annotated[int, Field(ge=0, le=2**53)]
    before: Sha | None
    with_take: Sha | None
    line: Sha | Literal[""]
    ms: Annotated[float, Field(ge=0, allow_inf_nan=False)] | None
    pruned: bool
    witness: Annotated[str, Field(pattern=r"^([0-9a-f]{48})*$")] | None = None


class Told(_Part):
    """All that ``workspace.json`` says."""

    what: Annotated[str, Field(max_length=100)]
    version: int
    application: Annotated[str, Field(max_length=100)]
    name: Annotated[str, Field(min_length=1, max_length=300)]
    skeletons: list[ToldSkeleton]
    profiles: list[ToldProfile]
    recipes: list[ToldRecipe]
    presets: list[ToldPreset] = []
    maps: list[ToldMap] = []
    stored: list[ToldStored] = []
    takes: list[ToldTake]
    clips: list[ToldClip]
    deliveries: list[ToldDelivery]
    states: dict[Sha, ToldState]


class ToldLine(BaseModel):
    """A line of a clip's recipe, as far as everything can work with it."""

    model_config = ConfigDict(extra="allow")
    line_id: Annotated[str, Field(min_length=1, max_length=64)]
    operation: Name
    version: Positive
    params: dict[str, Any]
    scope: dict[str, Any]
    inputs: dict[Name, Sha | Annotated[list[Sha], Field(max_length=2_000)]] = {}
    aside: Annotated[str, Field(max_length=1_000)] = ""
    made: dict[str, Any] | None = None
