"""What the plants router takes and gives."""

from ninja import Schema


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
