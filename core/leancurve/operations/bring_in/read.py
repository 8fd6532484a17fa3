"""Read: how the take's numbers are understood. The first line of every recipe."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar, Literal

from pydantic import Field

from leancurve.document.clip import Clip, Reading
from leancurve.errors import BadInput
from leancurve.figure.body import ROLES
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent


class ReadParams(Params):
    metres_per_unit: float | None = Field(None, ge=1e-6, le=1e6, description="metres a unit")
    up_axis: Literal["x", "y", "z"] | None = Field(None, description="the axis that points up")
    root_positions: Literal["add", "replace"] | None = Field(
        None, description="whether a root's position channels add to its offset or replace it"
    )
    joint_positions: Literal["add", "replace"] | None = Field(
        None, description="the same for joints other than roots"
    )
    ends: tuple[str, ...] | None = Field(None, description="joints where millimetres are measured")
    roles: dict[str, str] | None = Field(
        None, description='what joints are, where it is not read right: {"Bone12": "left foot"}'
    )
    floor_mm: float | None = number(
        None, "mm", "height of the floor; estimated when absent", ge=-1e6, le=1e6
    )


class Read(Operation[ReadParams]):
    """Unit, up axis, meaning of position channels, ends, roles; what is absent stays as found.

    ``{"metres_per_unit": 0.01}`` reads the take's numbers as centimetres.
    """

    name = "read"
    title = "Read the take"
    step = "bring-in"
    scoped = False
    Params: ClassVar[type[ReadParams]] = ReadParams

    def apply(
        self, clip: Clip, scope: Scope, params: ReadParams, progress: Progress = silent
    ) -> Patch:
        given = {k: v for k, v in params.model_dump().items() if v is not None}
        unknown = [n for n in given.get("ends", ()) if n not in clip.skeleton.names]
        if unknown:
            raise BadInput(f"ends: no joint is named {unknown[0]!r}")
        roles = given.pop("roles", {})
        for joint, role in roles.items():
            if role not in ROLES:
                raise BadInput(f"roles: {joint} cannot be {role!r}; there are {', '.join(ROLES)}")
        floor = given.pop("floor_mm", None)
        reading: Reading = replace(clip.reading, **given)
        known = {j: r for j, r in roles.items() if j in clip.skeleton.names}
        if known:
            reading = replace(reading, roles=tuple(sorted(known.items())))
        if floor is not None:
            reading = replace(reading, floor=floor / 1000.0 / reading.metres_per_unit)
        return Patch(
            reading=reading,
            report={
                "metres_per_unit": reading.metres_per_unit,
                "height_m": clip.skeleton.rest_height * reading.metres_per_unit,
            },
        )
