"""What the recipes router takes and gives."""

from datetime import datetime
from typing import Any, Literal

from ninja import Field, Schema
from pydantic import PositiveInt

from api.schemas.shared import AppendIn


class KeptLineIn(AppendIn):
    aside: str | None = Field(None, description="why it is left out of the work, where it is")


class RecipeIn(Schema):
    name: str = Field(min_length=1, max_length=120)
    lines: list[KeptLineIn] = Field(min_length=1, max_length=200)
    rate: tuple[PositiveInt, PositiveInt] | None = Field(
        None, description="of the take they were made on"
    )


class RecipeOut(Schema):
    id: int = Field(description="0 and below: one that comes with the application")
    name: str
    lines: list[AppendIn]
    told: list[str]
    left_out: list[str] = Field([], description="lines that were not kept, each with the reason")


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
