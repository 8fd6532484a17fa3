"""What all parameters of operations have in common."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class Params(BaseModel):
    """Parameters of an operation: unknown names are refused, not ignored."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
