"""What every operation is: parameters, a scope, and a patch with a report."""

from __future__ import annotations

from abc import ABC
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from fractions import Fraction
from typing import Any, ClassVar, Generic, Literal, TypeAlias, TypeVar
from weakref import WeakKeyDictionary, ref

import numpy as np
from pydantic import BaseModel, Field, ValidationError

from leancurve.cleaning.continuity import kept_continuous, layers_resolved
from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.clip import Accepted, Clip, Contact, Mark, Placement, Reading
from leancurve.document.layer import NOBODY, Layer
from leancurve.document.limits import require_room
from leancurve.document.partner import Partner
from leancurve.document.plant import Plant
from leancurve.document.prop import PROP, Prop
from leancurve.document.scope import Scope
from leancurve.document.sound import require_sound
from leancurve.document.track import BASE, TrackId
from leancurve.errors import BadInput
from leancurve.figure.skeleton import Skeleton
from leancurve.measures.account import Kind
from leancurve.operations.lengths import in_own_unit
from leancurve.operations.params import Params
from leancurve.progress import Cancelled, Progress, silent
from leancurve.time.meaning import ClipTime, Meaning


def number(
    default: Any,
    unit: str,
    description: str,
    when: dict[str, list[Any]] | None = None,
    time: Meaning | None = None,
    **bounds: Any,
) -> Any:
    """A parameter with a unit, for schemas, the command line and the panels to show.

    ``when`` says with which values of another parameter it counts: ``{"method": ["gaussian"]}``;
    ``time`` what it means in time: a ``frame``, a ``length`` where it is so many ``frames``.
    """
    extra: dict[str, Any] = {"unit": unit} | ({"when": when} if when else {})
    meaning = time or {"frame": "frame", "frames": "length"}.get(unit)
    return Field(
        default,
        description=description,
        json_schema_extra=extra | ({"time": meaning} if meaning else {}),
        **bounds,
    )


def timed(default: Any = ..., *, time: Meaning, description: str = "", **bounds: Any) -> Any:
    """A part of an edit that has a meaning in time, in frames."""
    extra: dict[str, Any] = {"unit": "frame", "time": time}
    return Field(default, description=description or None, json_schema_extra=extra, **bounds)


def counted(n: float, word: str) -> str:
    """``(1, "frame")`` → ``"1 frame"``, ``(2.5, "frame")`` → ``"2.5 frames"``."""
    return f"{n:g} {word}" if abs(n) == 1 else f"{n:g} {word}s"


@dataclass(frozen=True, eq=False)
class Patch:
    """A typed change of the document, with its report in numbers.

    A part that is None stays as it is; ``unset`` names parts that the clip shall not have.
    """

    curves: Mapping[TrackId, Curve] = field(default_factory=dict)
    reading: Reading | None = None
    skeleton: Skeleton | None = None
    layout: tuple[tuple[str, ...], ...] | None = None
    rate: Fraction | None = None
    frames: int | None = None
    contacts: tuple[Contact, ...] | None = None
    accepted: tuple[Accepted, ...] | None = None
    marks: tuple[Mark, ...] | None = None
    plants: tuple[Plant, ...] | None = None
    props: tuple[Prop, ...] | None = None
    partners: tuple[Partner, ...] | None = None
    layers: tuple[Layer, ...] | None = None
    placement: Placement | None = None
    unset: frozenset[Literal["contacts"]] = frozenset()
    report: Mapping[str, Any] = field(default_factory=dict)

    @property
    def parts(self) -> dict[str, Any]:
        """What changes beside curves, by the clip's own names."""
        names = {f.name for f in fields(self)} - {"curves", "unset", "report"}
        given = {n: getattr(self, n) for n in names if getattr(self, n) is not None}
        return {**given, **dict.fromkeys(self.unset)}


_made: WeakKeyDictionary[Patch, tuple[ref[Clip], Clip]] = WeakKeyDictionary()


def apply_patch(clip: Clip, patch: Patch) -> Clip:
    """The clip with the patch's change made; the same one where it was asked before, so that what
    was found of it is found again."""
    there = _made.get(patch)
    if there is not None and there[0]() is clip:
        return there[1]
    changed = _patched(clip, patch)
    _made[patch] = (ref(clip), changed)
    return changed


def _patched(clip: Clip, patch: Patch) -> Clip:
    changed = clip.with_curves(patch.curves)
    if patch.props is not None or patch.layers is not None:
        # A prop or a layer that is no more takes its curves with it.
        ids = {p.id for p in (clip.props if patch.props is None else patch.props)}
        layers = clip.layers if patch.layers is None else patch.layers
        own = {t for layer in layers for t in layer.tracks}
        kept = {
            t: c
            for t, c in changed.curves.items()
            if t.owner == BASE or (t.joint in ids if t.owner == PROP else t in own)
        }
        changed = replace(changed, curves=kept)
    if not patch.parts:
        return changed
    changed = replace(changed, **patch.parts)
    if patch.layout is not None:
        # What has no channel any more has no curve either.
        tracks = changed.tracks
        changed = replace(changed, curves={t: changed.curves[t] for t in tracks})
    return changed


def patch_to(clip: Clip, whole: Clip) -> Patch:
    """What makes a clip one of the same skeleton and rate, with all of its curves and its parts; a
    placement that is no more is one that puts nothing elsewhere."""
    kept = {n: getattr(whole, n) for n in ("contacts", "accepted", "marks", "plants", "props")}
    placement = None if clip.placement is None else whole.placement or Placement()
    return Patch(
        curves=whole.curves, frames=whole.frames, layers=whole.layers, placement=placement, **kept
    )


def continuous_patch(clip: Clip, patch: Patch) -> Patch:
    """The patch with its rotations said without a flip that the clip did not have: in goes a
    clip free of flips, out comes one. No pose changes by it."""
    turned = {t.joint for t in patch.curves if t.turns and t.owner == BASE}
    if not turned:
        return patch
    after = apply_patch(clip, patch)
    curves = kept_continuous(clip, after, sorted(turned))
    return replace(patch, curves={**patch.curves, **curves}) if curves else patch


def layers_kept(clip: Clip, patch: Patch) -> Patch:
    """The patch with layers that mean angles said as the joints below them are said now."""
    turned = sorted({t.joint for t in patch.curves if t.turns and t.owner == BASE})
    after = apply_patch(clip, patch)
    if not turned or not after.layers or after.frames != clip.frames:
        return patch
    curves = layers_resolved(clip, after, turned)
    # What the operation itself has written of a layer is meant so.
    curves = {t: c for t, c in curves.items() if t not in patch.curves}
    return replace(patch, curves={**patch.curves, **curves}) if curves else patch


__all__ = [
    "Cancelled",
    "ClipTime",
    "Input",
    "InputKind",
    "Inputs",
    "Operation",
    "Params",
    "Patch",
    "Progress",
    "Scope",
    "apply_patch",
    "continuous_patch",
    "counted",
    "digests_of",
    "number",
    "patch_to",
    "silent",
    "timed",
]

P = TypeVar("P", bound=BaseModel)

InputKind: TypeAlias = Literal["take", "hand", "clip", "skeleton", "digest"]
"""The take as read, on the line's own time; the clip before and after each line of hand work, in
turns; another clip's revision; a skeleton; another clip's revision of which the digest alone is
wanted. All but the take are named in the line, by the digests of what was chosen."""
Inputs: TypeAlias = Mapping[str, Clip | Skeleton | Sequence[Clip] | Sequence[str]]


def clips_of(given: Clip | Skeleton | Sequence[Clip] | Sequence[str] | None) -> list[Clip]:
    """The clips of an input that may be one, several or none."""
    if isinstance(given, Clip):
        return [given]
    return [] if isinstance(given, Skeleton) else [x for x in given or () if isinstance(x, Clip)]


def digests_of(given: Clip | Skeleton | Sequence[Clip] | Sequence[str] | None) -> list[str]:
    """The digests of an input of several clips that are only named."""
    if isinstance(given, Clip | Skeleton):
        return []
    return [x for x in given or () if isinstance(x, str)]


@dataclass(frozen=True)
class Input:
    """Another document that an operation works with: what it is, and what is said where it is
    needed and missing. One that is ``optional`` is needed with some parameters alone."""

    kind: InputKind
    asks: str
    optional: bool = False


KIND_OF_STEP: Mapping[str, Kind] = {
    "bring-in": "continuity",
    "inspect": "continuity",
    "unflip": "continuity",
    "calm": "calm",
    "thin": "thin",
    "plant": "plant",
    "balance": "layer",
    "retarget": "retarget",
    "shape": "hand",
    "join": "continuity",
}


PARTS = 1e10
"""Values on frames that an operation makes are whole numbers of such parts of a degree, or of the
skeleton's own unit: what is finer is of the calculation, and would be most of what is kept."""
MOST_IN_DIGITS = 1e5
"""Larger ones stay as they are: a double has no digits left for them."""


def _in_few_digits(clip: Clip, patch: Patch, retimed: bool) -> Patch:
    """A patch whose new values on frames have no more digits than mean something; what stood in the
    clip, on whichever frame where it was ``retimed``, stays to the bit."""
    curves: dict[TrackId, Curve] = {}
    for track, curve in patch.curves.items():
        if not isinstance(curve, SampledCurve):
            continue
        values = curve.values
        stays = ~(np.abs(values) < MOST_IN_DIGITS)
        was = clip.curves.get(track)
        if isinstance(was, SampledCurve) and retimed:
            stays |= np.isin(values, was.values)
        elif isinstance(was, SampledCurve) and len(was.values) == len(values):
            stays |= values == was.values
        fewer = np.rint(np.where(stays, 0.0, values) * PARTS) / PARTS + 0.0
        made = np.where(stays, values, fewer)
        if not np.array_equal(made, values):
            curves[track] = SampledCurve(made)
    return replace(patch, curves={**patch.curves, **curves}) if curves else patch


class Operation(ABC, Generic[P]):
    """A change of a clip. Subclasses set ``name``, ``title``, ``version`` and ``Params``.

    ``step`` is the step of the work that it belongs to, ``part`` the part of it; ``ranged`` says
    whether it can be limited to some frames, ``keyed`` whether to single keys; ``by_joint``
    that it can be had for a few joints without the others; ``of_any`` that it works on the curves
    of props and layers as on the clip's own. ``grows`` marks what has parameters that grow with the
    work. ``inputs`` are other documents that it works with, by name.
    ``retargets`` marks what puts the performance on another skeleton. ``meant`` says that angles
    are written as a hand set them: nobody says them anew; ``continuous`` that they come without a
    flip by the operation's own care. ``scoped`` says whether it can be limited to some joints; one
    that cannot works on all of the clip, or on what its parameters name. One that ``keeps`` the
    motion changes how it is said and written, and no pose beyond its own tolerance. One that is
    ``over_all`` takes everything along, layers that take no keys too.
    """

    name: ClassVar[str]
    title: ClassVar[str]
    step: ClassVar[str]
    part: ClassVar[str] = ""
    ranged: ClassVar[bool] = False
    keyed: ClassVar[bool] = False
    by_joint: ClassVar[bool] = False
    of_any: ClassVar[bool] = False
    grows: ClassVar[bool] = False
    meant: ClassVar[bool] = False
    continuous: ClassVar[bool] = False
    retargets: ClassVar[bool] = False
    scoped: ClassVar[bool] = True
    keeps: ClassVar[Literal["", "motion"]] = ""
    over_all: ClassVar[bool] = False
    inputs: ClassVar[Mapping[str, Input]] = {}
    version: ClassVar[int] = 1
    Params: ClassVar[type[BaseModel]]

    def apply(self, clip: Clip, scope: Scope, params: P, progress: Progress = silent) -> Patch:
        """The change this operation makes, and its report, where it has no inputs."""
        raise NotImplementedError

    def run(
        self,
        clip: Clip,
        params: Mapping[str, Any] | None = None,
        scope: Scope | None = None,
        progress: Progress = silent,
        inputs: Inputs | None = None,
    ) -> Patch:
        """:meth:`apply` with plain parameters; :class:`BadInput` names the one that is wrong.

        ``inputs`` are the declared ones, as far as they are at hand.
        """
        scope = scope or Scope()
        self.require_scope(scope)
        parsed = self.parsed(params or {})
        self._require_room(clip, parsed)
        given = {name: found for name, found in (inputs or {}).items() if name in self.inputs}
        self.require_inputs(given, parsed)
        patch = self.apply_with(clip, given, scope, in_own_unit(parsed, clip.millimetres), progress)
        patch = done = _in_few_digits(clip, patch, self.retimes)
        self._require_open(clip, patch)
        if patch.curves or patch.parts:
            require_sound(apply_patch(clip, patch), clip)
        if not (self.meant or self.continuous):
            patch = continuous_patch(clip, patch)
        if not self.meant:
            patch = layers_kept(clip, patch)
        if patch is not done:
            patch = _in_few_digits(clip, patch, self.retimes)
        gone = scope.unplaced(clip)
        if gone:
            report = dict(patch.report)
            report["unplaced"] = [*report.get("unplaced", []), *gone]
            return replace(patch, report=report)
        return patch

    def require_scope(self, scope: Scope) -> None:
        """Refuse a scope that says more than this operation can be limited to."""
        if not (self.ranged or scope.whole_time):
            raise BadInput(f"{self.name} works on whole channels: it takes no frames in its scope")
        if scope.keys is not None and not self.keyed:
            raise BadInput(f"{self.name} works on curves: it takes no keys in its scope")
        if scope.owner not in (None, BASE) and not self.of_any:
            raise BadInput(
                f"{self.name} works on the figure: it takes no props and no layers in its scope"
            )
        if not self.scoped and not scope.whole_figure:
            raise BadInput(
                f"{self.name} works on what its parameters name: it takes no joints and no "
                "channels in its scope"
            )

    def scope_of(self, scope: Mapping[str, Any]) -> Scope:
        """A line's scope, without what older lines say that it never was limited to."""
        found = Scope.model_validate(dict(scope))
        return found if self.scoped else Scope(frames=found.frames, limbs=found.limbs)

    def _require_open(self, clip: Clip, patch: Patch) -> None:
        """Refuse a change of curves of layers that take no keys; what moves time moves them all,
        and their weights are no keys of theirs."""
        if self.retimes or self.over_all:
            return
        shut = {x.owner: x for x in clip.layers if x.locked or x.muted}
        held = next((t for t in patch.curves if t.owner in shut and t.joint != NOBODY), None)
        if held is not None:
            layer = shut[held.owner]
            raise BadInput(
                f"the layer {layer.name} is {'locked' if layer.locked else 'muted'}: "
                "it takes no keys"
            )

    def _require_room(self, clip: Clip, params: P) -> None:
        """Refuse a change of time past what a clip may hold before anything is made of it."""
        if not self.retimes:
            return
        try:
            after = self.time_after(ClipTime(clip.rate, clip.frames), params)
        except (BadInput, ArithmeticError):
            return  # what is wrong with the parameters is told by the work itself
        require_room(len(clip.skeleton), len(clip.curves), after.frames, self.name)

    def apply_with(
        self, clip: Clip, inputs: Inputs, scope: Scope, params: P, progress: Progress = silent
    ) -> Patch:
        """The change it makes, and its report: with the declared inputs that it needs at hand."""
        return self.apply(clip, scope, params, progress)

    def needs(self, params: P) -> frozenset[str]:
        """The inputs that it needs with these parameters: all that are not optional."""
        return frozenset(n for n, declared in self.inputs.items() if not declared.optional)

    def require_inputs(self, given: Inputs, params: P) -> None:
        """Raise :class:`BadInput` where an input is missing that these parameters need."""
        none = {n for n, found in given.items() if isinstance(found, Sequence) and not found}
        missing = sorted(self.needs(params) - (set(given) - none))
        if missing:
            raise BadInput(f"{self.name}: {self.inputs[missing[0]].asks}")

    def time_after(self, time: ClipTime, params: P) -> ClipTime:
        """The clip's time after it: another rate, more or fewer frames, frames elsewhere."""
        return time

    @property
    def retimes(self) -> bool:
        """Whether it moves time."""
        return type(self).time_after is not Operation.time_after

    @property
    def takes_along(self) -> bool:
        """Whether the take that drift is measured from goes through it as well: it moves time, or
        puts the performance on another skeleton."""
        return self.retimes or self.retargets

    def counted_as(self, params: Mapping[str, Any]) -> Kind:
        """What kind of drift a line of it makes: by its step, unless it says otherwise."""
        return "layer" if self.part == "layers" else KIND_OF_STEP[self.step]

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """Parameters of a line of an older version, as this version means the same by them."""
        return dict(params)

    def as_done(self, params: Mapping[str, Any], report: Mapping[str, Any]) -> dict[str, Any]:
        """The parameters with what the operation found out filled in, to do the same elsewhere."""
        return dict(params)

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
