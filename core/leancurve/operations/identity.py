"""Identities: numbers of their own that what a line makes keeps for good.

A layer is known by its id, in scopes, in edits and in the browser. A line that makes one names the
id it gets, chosen once when the line is made; so whatever lines come to lie before it, or go, it is
that layer that later lines mean. A field says so beside its unit: ``{"identity": "layer"}``; one
that names a layer is marked ``{"names": "layer"}``, and an owner names one in words.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterable, Mapping
from typing import Any

from pydantic import BaseModel, Field

from leancurve.document.layer import layer_of, layer_owner
from leancurve.time.meaning import model_in

MOST_ID = 900_000_000
"""Ids are drawn below it; what a line without one is given goes on from the largest there is."""


def identity(when: dict[str, list[Any]] | None = None) -> Any:
    """The id of a layer that the line makes; a line that has none is given one when it is made."""
    extra: dict[str, Any] = {"identity": "layer"} | ({"when": when} if when else {})
    return Field(None, ge=0, lt=10**9, description="the new layer's id", json_schema_extra=extra)


def meant(description: str = "the layer's id, which tells it from others of its name") -> Any:
    """The id of a layer that is meant."""
    extra: dict[str, Any] = {"names": "layer"}
    return Field(None, ge=0, lt=10**9, description=description, json_schema_extra=extra)


def all_meant(description: str) -> Any:
    """The ids of layers that are meant."""
    extra: dict[str, Any] = {"names": "layer"}
    return Field(None, max_length=200, description=description, json_schema_extra=extra)


def drawn(taken: Iterable[int], seed: bytes | None = None) -> Callable[[], int]:
    """Ids that nobody has, one after the other: the same ones from a seed, where one is given. Who
    has which is asked with the first."""
    draw = random.Random(seed)
    known: set[int] = set()

    def fresh() -> int:
        known.update(taken)
        while (found := draw.randrange(1, MOST_ID)) in known:
            pass
        known.add(found)
        return found

    return fresh


def identified(
    model: type[BaseModel], values: Mapping[str, Any], fresh: Callable[[], int]
) -> dict[str, Any]:
    """Parameters of a line that is being made, with an id for each layer that it makes."""
    return _walked(model, values, lambda value: fresh() if value is None else value, None)


def renumbered(
    model: type[BaseModel], values: Mapping[str, Any], ids: Mapping[int, int]
) -> dict[str, Any]:
    """Parameters in which layers have other ids, wherever they are made or named."""

    def other(value: Any) -> Any:
        if isinstance(value, list | tuple):
            return [other(v) for v in value]
        return ids.get(value, value)

    return _walked(model, values, other, other)


def made_by(model: type[BaseModel], values: Mapping[str, Any]) -> list[int]:
    """Ids of the layers that a line makes."""
    out: list[int] = []

    def seen(value: Any) -> Any:
        if value is not None:
            out.append(value)
        return value

    _walked(model, values, seen, None)
    return out


def renumbered_owner(owner: Any, ids: Mapping[int, int]) -> Any:
    """An owner, such as ``layer:3``, where layers have other ids."""
    return _owned(owner, lambda found: ids.get(found, found))


def _owned(owner: Any, other: Callable[[int], int]) -> Any:
    found = layer_of(owner) if isinstance(owner, str) else None
    return owner if found is None else layer_owner(other(found))


def _walked(
    model: type[BaseModel],
    values: Mapping[str, Any],
    made: Callable[[Any], Any],
    named: Callable[[Any], Any] | None,
) -> dict[str, Any]:
    out = dict(values)
    for name, field in model.model_fields.items():
        extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
        inner = model_in(field.annotation)
        if extra.get("identity") and _counts(extra, out):
            value = made(out.get(name))
            if value is not None:
                out[name] = value
        elif extra.get("names") and named is not None and out.get(name) is not None:
            out[name] = named(out[name])
        elif name == "owner" and named is not None and name in out:
            out[name] = _owned(out[name], named)
        elif inner is not None and isinstance(out.get(name), list | tuple):
            out[name] = [_walked(inner, v, made, named) if isinstance(v, Mapping) else v
                         for v in out[name]]  # fmt: skip
        elif inner is not None and isinstance(out.get(name), Mapping):
            out[name] = _walked(inner, out[name], made, named)
    return out


def _counts(extra: Mapping[str, Any], values: Mapping[str, Any]) -> bool:
    when = extra.get("when", {})
    return all(values.get(name) in allowed for name, allowed in when.items())
