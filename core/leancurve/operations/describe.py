"""Operations described for people and programs: parameters, units, defaults and bounds."""

from __future__ import annotations

import inspect
from typing import Any

from leancurve.operations.base import Operation
from leancurve.operations.shaping import RampParams

LABELS = {
    "metres_per_unit": "Metres a unit",
    "up_axis": "Up axis",
    "floor_mm": "Floor’s height",
    "find_contacts.speed": "Slower than",
    "find_contacts.height": "Lower than",
    "accept.meant": "It is meant",
    "calibration": "Calibration pose off",
    "gimbal_deg": "Smoother way near gimbal",
    "begin_frame": "Begin in the solution of",
    "fill_s": "Filled up to",
    "order": "Rotation order",
    "reorder.gain": "Only if better by",
    "longest_s": "Longest gap",
    "pops": "Limb pops as well",
    "despike.least_deg": "Smallest of a turn",
    "despike.least_mm": "Smallest of a move",
    "smooth.noise": "Noise, times measured",
    "cutoff_hz": "Cut-off",
    "window_s": "Window",
    "degree": "Polynomial’s degree",
    "sigma_s": "Width of the weights",
    "protect": "Contacts and holds stay sharp",
    "feather_s": "Fades out over",
    "feet": "Feet above their floor",
    "clamp.least": "Lower bound",
    "clamp.most": "Upper bound",
    "clamp.soft": "Gives way before it by",
    "rate": "Frames a second",
    "between": "Turns between frames",
    "change_rate.keys": "Keyed curves",
    "drop_idle.least_deg": "Turns within",
    "drop_idle.least_mm": "Moves within",
    "off_frame": "Keys between frames",
    "doubled": "One key within",
    "tolerance_deg": "Tolerance of turns",
    "tolerance_mm": "Tolerance of moves",
    "ends_mm": "Tolerance at the ends",
    "layout": "Key times",
    "most_keys": "At most",
    "poses": "Key poses",
    "contacts": "Keys where contacts change",
    "planted": "Share while planted",
    "densify.every": "A key every",
    "brush.by": "Pulled by",
    "brush.by_frames": "Pulled in time by",
    "gain.about": "About",
    "gain.value": "About this value",
    "ramp_in": "Comes in over",
    "ramp_out": "Goes out over",
    "bezier": "Bezier’s four numbers",
    "frequency_hz": "Sways",
    "loops": "Ends where it began",
    "exchange": "Axes changing places",
    "negate_x": "X upside down",
    "negate_y": "Y upside down",
    "negate_z": "Z upside down",
    "whole_frames": "Keys on whole frames",
    "lag.frames": "Later by",
    "fall_off": "Each one’s, times the last",
    "match_times.joint": "Times from",
    "borrow_rhythm.joint": "Rhythm from",
    "repeat.first": "From",
    "repeat.last": "To",
    "repeat.offset": "What goes on",
    "close_loop.spread": "Spread over",
    "close_loop.travel": "Root motion stays",
    "close_loop.heading": "Heading stays",
    "begin_loop.frame": "Begins at",
    "travel.way": "Travel",
    "travel.stands": "Where it stands is held",
    "travel.axes": "What is led",
    "travel.facing": "Faces by",
    "travel.smooth": "Sway below",
    "travel.ease": "Comes and goes over",
    "travel.aside": "Direction",
    "travel.turn": "Turns in all",
    "balance.counter": "Counter-motion",
    "balance.limbs": "By the",
    "balance.soft": "Fades over",
    "lean.amount": "How far",
    "flow.stops": "Stop where it turns back",
    "slide.by": "Later by",
    "slide.about": "Scaled about",
    "slide.copies": "Copies, the keys stay",
    "smooth": "Speed changes smoothly",
    "remove_span.blend": "Seam blended over",
    "insert_frames.after": "After",
    "insert_frames.count": "How many",
    "insert_frames.fill": "Filled by",
    "shift_from.frame": "From",
    "shift_from.by": "Later by",
    "scale_span.factor": "Times as long",
}
"""What parameters are called in words, where their names are not: by name, or by operation and
name."""

CONTROLS = {"number": "number", "integer": "integer", "boolean": "switch", "string": "text"}


def described(operation: Operation[Any]) -> dict[str, Any]:
    """One operation as plain values: what the command line and the panels show."""
    about = inspect.cleandoc(operation.__doc__ or "").split("\n\n")[0]
    about = about.replace("\n", " ").replace("``", "")
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
        "retimes": operation.retimes,
        "over_all": operation.over_all,
        "scoped": operation.scoped,
        # What is common to several operations, such as ramps, comes after their own.
        "params": sorted(
            (
                _param(operation.name, name, field)
                for name, field in schema.get("properties", {}).items()
            ),
            key=lambda param: param["name"] in RampParams.model_fields,
        ),
    }


def label(operation: str, name: str) -> str:
    """What a parameter is called: ``("smooth", "cutoff_hz")`` → ``"Cut-off"``."""
    words = name.replace("_", " ")
    return LABELS.get(f"{operation}.{name}") or LABELS.get(name, words[:1].upper() + words[1:])


def _param(operation: str, name: str, field: dict[str, Any]) -> dict[str, Any]:
    """A parameter's JSON schema as one flat entry."""
    options = [o for o in field.get("anyOf", [field]) if o.get("type") != "null"]
    shape = {**field, **(options[0] if len(options) == 1 else {})}
    several = shape.get("items", {}).get("enum", [])
    choices = [str(c) for c in shape.get("enum", several)]
    kind = "choice" if choices else CONTROLS.get(str(shape.get("type")), "other")
    kind = "several" if several else kind
    least = shape.get("minimum", shape.get("exclusiveMinimum"))
    most = shape.get("maximum", shape.get("exclusiveMaximum"))
    return {
        "name": name,
        "label": label(operation, name),
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
