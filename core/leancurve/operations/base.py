"""What every operation is: parameters, a scope, and a patch with a report."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Any, ClassVar, Generic, TypeVar

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from leancurve.arrays import Bools
from leancurve.body import body_of
from leancurve.clip import Accepted, ChannelId, Clip, Contact, Reading
from leancurve.curve import Curve
from leancurve.errors import BadInput


class Cancelled(Exception):
    """Raised by a progress callback to end an operation early; nothing is changed."""


Progress = Callable[[float], None]
"""Called with the share done, 0 to 1, between joints; may raise :class:`Cancelled`."""


def silent(_share: float) -> None:
    """Progress that nobody watches."""


def number(default: Any, unit: str, description: str, **bounds: Any) -> Any:
    """A parameter with a unit, for schemas, the command line and the panels to show."""
    return Field(default, description=description, json_schema_extra={"unit": unit}, **bounds)


class Scope(BaseModel):
    """What an operation may change: joints, channels and frames, resolved when applied.

    ``groups`` are parts of the body and ``limbs`` contact spans, so that they mean something on
    another take; what is given of joints and groups adds up, and so do frames and limbs.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    joints: tuple[str, ...] | None = Field(None, description="joint names; all when absent")
    groups: tuple[str, ...] | None = Field(
        None, description='groups of the body, such as "left leg"'
    )
    channels: tuple[str, ...] | None = Field(
        None, description="of tx ty tz rx ry rz; all when absent"
    )
    frames: tuple[int, int] | None = Field(
        None, description="first and last frame, both included; all when absent"
    )
    limbs: tuple[str, ...] | None = Field(
        None, description='frames in which one of these limbs is held, such as "left foot"'
    )

    def resolve(self, clip: Clip) -> tuple[ChannelId, ...]:
        """The clip's channels in scope. A joint that this skeleton lacks selects nothing."""
        inside = self._joints(clip)
        return tuple(
            c
            for c in clip.channels
            if (inside is None or c.joint in inside)
            and (self.channels is None or c.name in self.channels)
        )

    def _joints(self, clip: Clip) -> set[int] | None:
        if self.joints is None and self.groups is None:
            return None
        inside = {j for j, n in enumerate(clip.skeleton.names) if n in (self.joints or ())}
        if self.groups:
            body = body_of(clip.skeleton, clip.reading.up_axis, clip.reading.roles)
            for name in self.groups:
                inside |= set(body.groups.get(name, ()))
        return inside

    @property
    def whole_time(self) -> bool:
        return self.frames is None and self.limbs is None

    def mask(self, clip: Clip) -> Bools:
        """The clip's frames in scope, ``(F,)``."""
        if self.whole_time:
            return np.ones(clip.frames, dtype=np.bool_)
        inside = np.zeros(clip.frames, dtype=np.bool_)
        if self.frames is not None:
            inside[max(0, self.frames[0]) : max(0, self.frames[1] + 1)] = True
        for contact in clip.contacts or ():
            if self.limbs and contact.limb.startswith(self.limbs):
                inside[contact.first : contact.last + 1] = True
        return inside


@dataclass(frozen=True, eq=False)
class Patch:
    """A typed change of the document, with its report in numbers."""

    curves: Mapping[ChannelId, Curve] = field(default_factory=dict)
    reading: Reading | None = None
    layout: tuple[tuple[str, ...], ...] | None = None
    rate: Fraction | None = None
    frames: int | None = None
    contacts: tuple[Contact, ...] | None = None
    accepted: tuple[Accepted, ...] | None = None
    report: Mapping[str, Any] = field(default_factory=dict)

    @property
    def parts(self) -> dict[str, Any]:
        """What changes beside curves, by the clip's own names."""
        names = ("reading", "layout", "rate", "frames", "contacts", "accepted")
        return {n: getattr(self, n) for n in names if getattr(self, n) is not None}


def apply_patch(clip: Clip, patch: Patch) -> Clip:
    """The clip with the patch's change made."""
    changed = clip.with_curves(patch.curves)
    return replace(changed, **patch.parts) if patch.parts else changed


P = TypeVar("P", bound=BaseModel)


class Params(BaseModel):
    """Parameters of an operation: unknown names are refused, not ignored."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Operation(ABC, Generic[P]):
    """A change of a clip. Subclasses set ``name``, ``title``, ``version`` and ``Params``.

    ``step`` is the step of the work that it belongs to; ``ranged`` says whether it can be
    limited to some frames.
    """

    name: ClassVar[str]
    title: ClassVar[str]
    step: ClassVar[str]
    ranged: ClassVar[bool] = False
    version: ClassVar[int] = 1
    Params: ClassVar[type[BaseModel]]

    @abstractmethod
    def apply(self, clip: Clip, scope: Scope, params: P, progress: Progress = silent) -> Patch:
        """The change this operation makes, and its report."""

    def run(
        self,
        clip: Clip,
        params: Mapping[str, Any] | None = None,
        scope: Scope | None = None,
        progress: Progress = silent,
    ) -> Patch:
        """:meth:`apply` with plain parameters; :class:`BadInput` names the one that is wrong."""
        scope = scope or Scope()
        if not (self.ranged or scope.whole_time):
            raise BadInput(f"{self.name} works on whole channels: it takes no frames in its scope")
        return self.apply(clip, scope, self.parsed(params or {}), progress)

    def told(self, params: Mapping[str, Any]) -> str:
        """A line of this operation in a few words, for the recipe and the history."""
        return self.title

    def parsed(self, params: Mapping[str, Any]) -> Any:
        """The parameters checked, or :class:`BadInput` naming the field and its bound."""
        try:
            return self.Params.model_validate(dict(params))
        except ValidationError as trouble:
            first = trouble.errors()[0]
            where = ".".join(str(part) for part in first["loc"]) or self.name
            raise BadInput(f"{where}: {first['msg']}, got {first['input']!r}") from None
