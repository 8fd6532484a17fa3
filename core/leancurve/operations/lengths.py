"""Lengths in recipes: millimetres, whatever unit a skeleton is in.

A field says that it is one (:func:`length`); an operation gets it in the skeleton's unit. What a
curve's own numbers are, as an edit of its keys has them, is no length of a recipe.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from pydantic import BaseModel, Field

from leancurve.operations.params import Params


def length(default: Any, description: str, **bounds: Any) -> Any:
    """A parameter that is a length, or a point or several of lengths, in millimetres."""
    extra: dict[str, Any] = {"unit": "mm", "length": True}
    return Field(default, description=description, json_schema_extra=extra, **bounds)


class WithLengths(Params):
    """Parameters with lengths among them."""

    lengths: Literal["mm", "own"] = Field(
        "mm",
        description="what its lengths are in: lines of older versions have the skeleton's own unit",
    )


def in_own_unit(params: Any, millimetres: float) -> Any:
    """Parameters with their lengths in a unit of so many millimetres."""
    if not isinstance(params, WithLengths) or params.lengths == "own":
        return params
    return _scaled(params, millimetres)


def of_own_unit(params: Mapping[str, Any]) -> dict[str, Any]:
    """Parameters of a line that has its lengths in the skeleton's unit, told so."""
    return {**params, "lengths": "own"}


def _scaled(model: BaseModel, unit: float) -> BaseModel:
    update: dict[str, Any] = {}
    for name, field in type(model).model_fields.items():
        value = getattr(model, name)
        extra = field.json_schema_extra
        if isinstance(extra, dict) and extra.get("length"):
            update[name] = _over(value, unit)
        elif isinstance(value, BaseModel):
            update[name] = _scaled(value, unit)
        elif isinstance(value, tuple) and any(isinstance(v, BaseModel) for v in value):
            update[name] = tuple(_scaled(v, unit) for v in value)
    return model.model_copy(update=update) if update else model


def _over(value: Any, unit: float) -> Any:
    if value is None:
        return None
    if isinstance(value, Mapping):
        return {key: _over(v, unit) for key, v in value.items()}
    if isinstance(value, tuple | list):
        return tuple(_over(v, unit) for v in value)
    return value / unit
