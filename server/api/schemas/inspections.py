"""What the inspections router takes and gives."""

from ninja import Field, Schema


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


class FlightOut(Schema):
    first: int
    last: int
    gravity: float = Field(description="how fast it falls, m/s²")
    arc_mm: float = Field(description="how far it is off its parabola at most")
    spin_deg: float | None = Field(
        description="by how much the body would have to turn further at most; null where unknown"
    )


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
    centre: list[float] | None = Field(
        description="how much each joint's place counts for the centre of mass; null where the "
        "body is not understood"
    )
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
