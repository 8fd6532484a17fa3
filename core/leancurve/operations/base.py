"""What every operation is: parameters, a scope, and a patch with a report."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Generic, TypeVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from leancurve.clip import ChannelId, Clip, Reading
from leancurve.curve import Curve
from leancurve.errors import BadInput


class Cancelled(Exception):
    """Raised by a progress callback to end an operation early; nothing is changed."""


Progress = Callable[[float], None]
"""Called with the share done, 0 to 1, between joints; may raise :class:`Cancelled`."""


def silent(_share: float) -> None:
    """Progress that nobody watches."""


class Scope(BaseModel):
    """What an operation may change: by joint names and channels, resolved when applied."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    joints: tuple[str, ...] | None = Field(None, description="joint names; all when absent")
    channels: tuple[str, ...] | None = Field(
        None, description="of tx ty tz rx ry rz; all when absent"
    )

    def resolve(self, clip: Clip) -> tuple[ChannelId, ...]:
        """The clip's channels in scope. A joint that this skeleton lacks selects nothing."""
        return tuple(
            c
            for c in clip.channels
            if (self.joints is None or clip.skeleton.names[c.joint] in self.joints)
            and (self.channels is None or c.name in self.channels)
        )


@dataclass(frozen=True, eq=False)
class Patch:
    """A typed change of the document, with its report in numbers."""

    curves: Mapping[ChannelId, Curve] = field(default_factory=dict)
    reading: Reading | None = None
    report: Mapping[str, Any] = field(default_factory=dict)


def apply_patch(clip: Clip, patch: Patch) -> Clip:
    """The clip with the patch's change made."""
    changed = clip.with_curves(patch.curves)
    return changed if patch.reading is None else replace(changed, reading=patch.reading)


P = TypeVar("P", bound=BaseModel)


class Params(BaseModel):
    """Parameters of an operation: unknown names are refused, not ignored."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Operation(ABC, Generic[P]):
    """A change of a clip. Subclasses set ``name``, ``title``, ``version`` and ``Params``."""

    name: ClassVar[str]
    title: ClassVar[str]
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
        return self.apply(clip, scope or Scope(), self.parsed(params or {}), progress)

    def parsed(self, params: Mapping[str, Any]) -> Any:
        """The parameters checked, or :class:`BadInput` naming the field and its bound."""
        try:
            return self.Params.model_validate(dict(params))
        except ValidationError as trouble:
            first = trouble.errors()[0]
            where = ".".join(str(part) for part in first["loc"]) or self.name
            raise BadInput(f"{where}: {first['msg']}, got {first['input']!r}") from None
