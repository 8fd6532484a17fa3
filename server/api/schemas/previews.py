"""What the previews router takes and gives."""

from typing import Any

from ninja import Field, Schema

from api.schemas.shared import ScopeIO


class PreviewIn(Schema):
    revision: int
    operation: str
    params: dict[str, Any] = {}
    scope: ScopeIO = ScopeIO()
    inputs: dict[str, str | list[str]] | None = Field(
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


class AroundLineOut(Schema):
    """The documents before and after a line, by digest, to be worked with by another one."""

    before: str
    after: str
