"""What the motion router takes and gives."""

from typing import Literal

from ninja import Schema


class CyclesOut(Schema):
    """Whole cycles of a motion: how many, and how far apart its first and last poses are."""

    first: int
    last: int
    count: int
    gap_deg: float


class LoopOut(Schema):
    """A span that goes over into its beginning: how far its ends are apart, mm over a short window,
    what it goes on by in each round, and limbs that are held at one end alone."""

    first: int
    last: int
    distance_mm: float
    travel_mm: float
    turned_deg: float
    unlike: list[str]


class MirrorIn(Schema):
    """A pose's values by joint index and channel, to be had for the other side of the body."""

    revision: int
    frame: float
    values: dict[int, dict[str, float]]


class MirrorOut(Schema):
    values: dict[int, dict[str, float]]


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
    kind: Literal[
        "continuity", "mend", "calm", "thin", "plant", "retarget", "hand", "layer", "place"
    ]
    deg: PlaceOut
    mm: PlaceOut
    mended: list[MendedOut]


class AccountOut(Schema):
    """What a recipe did: what calm and thin cost together, what was mended, line by line."""

    cost_deg: PlaceOut
    cost_mm: PlaceOut
    mended: list[MendedOut]
    lines: list[LineDriftOut]
