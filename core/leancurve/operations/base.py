"""What every operation is: parameters, a scope, and a patch with a report."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Any, ClassVar, Generic, TypeVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from leancurve.curves.curve import Curve
from leancurve.document.clip import Accepted, ChannelId, Clip, Contact, Mark, Reading
from leancurve.document.scope import Scope
from leancurve.errors import BadInput
from leancurve.progress import Cancelled, Progress, silent


def number(
    default: Any,
    unit: str,
    description: str,
    when: dict[str, list[Any]] | None = None,
    **bounds: Any,
) -> Any:
    """A parameter with a unit, for schemas, the command line and the panels to show.

    ``when`` says with which values of another parameter it counts: ``{"method": ["gaussian"]}``.
    """
    extra: dict[str, Any] = {"unit": unit} | ({"when": when} if when else {})
    return Field(default, description=description, json_schema_extra=extra, **bounds)


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
    marks: tuple[Mark, ...] | None = None
    report: Mapping[str, Any] = field(default_factory=dict)

    @property
    def parts(self) -> dict[str, Any]:
        """What changes beside curves, by the clip's own names."""
        names = ("reading", "layout", "rate", "frames", "contacts", "accepted", "marks")
        return {n: getattr(self, n) for n in names if getattr(self, n) is not None}


def apply_patch(clip: Clip, patch: Patch) -> Clip:
    """The clip with the patch's change made."""
    changed = clip.with_curves(patch.curves)
    return replace(changed, **patch.parts) if patch.parts else changed


__all__ = [
    "Cancelled",
    "Operation",
    "Params",
    "Patch",
    "Progress",
    "Scope",
    "apply_patch",
    "number",
    "silent",
]

P = TypeVar("P", bound=BaseModel)


class Params(BaseModel):
    """Parameters of an operation: unknown names are refused, not ignored."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Operation(ABC, Generic[P]):
    """A change of a clip. Subclasses set ``name``, ``title``, ``version`` and ``Params``.

    ``step`` is the step of the work that it belongs to, ``part`` the part of it; ``ranged`` says
    whether it can be limited to some frames, ``keyed`` whether to single keys. ``retimes`` marks
    what moves time: the take that drift is measured from goes through it as well; ``by_joint``
    that it can be had for a few joints without the others. ``lengths`` are parameters that are so
    many frames long: as many seconds on another take. What ``needs_take`` is also given that take.
    """

    name: ClassVar[str]
    title: ClassVar[str]
    step: ClassVar[str]
    part: ClassVar[str] = ""
    ranged: ClassVar[bool] = False
    keyed: ClassVar[bool] = False
    retimes: ClassVar[bool] = False
    by_joint: ClassVar[bool] = False
    lengths: ClassVar[tuple[str, ...]] = ()
    needs_take: ClassVar[bool] = False
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
        take: Clip | None = None,
    ) -> Patch:
        """:meth:`apply` with plain parameters; :class:`BadInput` names the one that is wrong.

        ``take`` is the clip as it was read, on its present time: for what brings it back.
        """
        scope = scope or Scope()
        if not (self.ranged or scope.whole_time):
            raise BadInput(f"{self.name} works on whole channels: it takes no frames in its scope")
        if scope.keys is not None and not self.keyed:
            raise BadInput(f"{self.name} works on curves: it takes no keys in its scope")
        parsed = self.parsed(params or {})
        if self.needs_take and take is not None:
            return self.apply_with(clip, take, scope, parsed, progress)
        return self.apply(clip, scope, parsed, progress)

    def apply_with(
        self, clip: Clip, take: Clip, scope: Scope, params: P, progress: Progress = silent
    ) -> Patch:
        """:meth:`apply` where the take is at hand."""
        return self.apply(clip, scope, params, progress)

    def as_done(self, params: Mapping[str, Any], report: Mapping[str, Any]) -> dict[str, Any]:
        """The parameters with what the operation found out filled in, to do the same elsewhere."""
        return dict(params)

    def longer(self, params: Mapping[str, Any]) -> int:
        """How many frames it makes the clip longer, as far as its parameters say."""
        return 0

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
