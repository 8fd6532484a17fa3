"""What the deliveries router takes and gives."""

from datetime import datetime
from typing import Any, Literal

from ninja import Field, Schema


class NameIn(Schema):
    """What a delivered file is called by."""

    format: Literal["bvh", "json"] = "bvh"
    pattern: str = Field("{character}_{action}_v{version:03}", min_length=1, max_length=120)
    character: str = Field(max_length=60)
    action: str = Field(max_length=60)
    version: int | None = Field(
        None, ge=1, le=99999, description="the next that is free when absent"
    )


class NameOut(Schema):
    name: str
    taken: bool = Field(description="a delivery of that name is there already")


class DeliverIn(NameIn):
    revision: int
    rate: list[int] = Field(min_length=2, max_length=2)
    first: int = Field(ge=0)
    last: int = Field(ge=0)
    props: bool = Field(False, description="props as joints of their own roots, in BVH")


class DeliveryOut(Schema):
    id: int
    file_name: str
    size: int
    revision: int
    report: dict[str, Any]
    created: datetime
