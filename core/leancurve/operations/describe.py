"""Operations described for people and programs: parameters, units, defaults and bounds."""

from __future__ import annotations

import inspect
from typing import Any

from leancurve.operations.base import Operation
from leancurve.operations.shaping import RampParams

CONTROLS = {"number": "number", "integer": "integer", "boolean": "switch", "string": "text"}


def described(operation: Operation[Any]) -> dict[str, Any]:
    """One operation as plain values: what the command line and the panels show."""
    about = inspect.cleandoc(operation.__doc__ or "").split("\n\n")[0].replace("\n", " ")
    schema = operation.Params.model_json_schema()
    return {
        "name": operation.name,
        "title": operation.title,
        "step": operation.step,
        "part": operation.part,
        "about": about,
        "version": operation.version,
        "ranged": operation.ranged,
        "keyed": operation.keyed,
        # What is common to several operations, such as ramps, comes after their own.
        "params": sorted(
            (_param(name, field) for name, field in schema.get("properties", {}).items()),
            key=lambda param: param["name"] in RampParams.model_fields,
        ),
    }


def _param(name: str, field: dict[str, Any]) -> dict[str, Any]:
    """A parameter's JSON schema as one flat entry."""
    options = [o for o in field.get("anyOf", [field]) if o.get("type") != "null"]
    shape = {**field, **(options[0] if len(options) == 1 else {})}
    choices = [str(c) for c in shape.get("enum", [])]
    kind = "choice" if choices else CONTROLS.get(str(shape.get("type")), "other")
    least = shape.get("minimum", shape.get("exclusiveMinimum"))
    most = shape.get("maximum", shape.get("exclusiveMaximum"))
    return {
        "name": name,
        "kind": kind,
        "description": field.get("description", ""),
        "unit": field.get("unit", ""),
        "when": field.get("when", {}),
        "default": field.get("default"),
        "optional": len(options) < len(field.get("anyOf", [])),
        "least": least,
        "most": most,
        "choices": choices,
    }
