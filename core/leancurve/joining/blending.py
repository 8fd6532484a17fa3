"""One clip after another: the second is laid at the seam, and the first becomes it.

Both stay what they are outside of the blend: keyed curves keep their keys, layers and plants come
along. The second clip's roots are said anew beneath its layers where it is laid.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TypeAlias, TypeVar

import numpy as np

from leancurve.cleaning.contacts import contacts_of
from leancurve.cleaning.thinning import few_keys
from leancurve.curves import splice
from leancurve.curves.curve import HELD, Curve, KeyedCurve, SampledCurve
from leancurve.curves.easing import EASINGS, EasingName
from leancurve.curves.insertion import cut
from leancurve.document.base import base_pose, curve_values, times_of
from leancurve.document.carrying import under_placement
from leancurve.document.clip import Accepted, Clip, Contact, Mark
from leancurve.document.layer import Layer
from leancurve.document.moves import Move, point_of
from leancurve.document.names import free_name
from leancurve.document.parts.plants import told_apart
from leancurve.document.parts.registry import moved_by
from leancurve.document.plant import Plant
from leancurve.document.prop import ORDER, Prop, prop_track
from leancurve.document.rotations import quaternions, said
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.joining.seams import Seam
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

Span = TypeVar("Span", Contact, Mark, Accepted)
Curves: TypeAlias = dict[TrackId, Curve]
Pairs: TypeAlias = Sequence[tuple[TrackId, TrackId]]
"""Tracks of the first clip, each with the second one's that it goes over into."""

BLEND_S = 0.3
"""How long before and after the seam one clip becomes the other: longer ones look no better."""
KEPT_DEG, KEPT_MM = 0.1, 0.5
"""How far keys within a blend may lie off, between two clips that are keyed."""
KEPT_WEIGHT = 1e-3
TURN = 360.0


@dataclass(frozen=True)
class Blend:
    """How many frames before and after the seam one clip becomes the other, with an easing each:
    on either side half of it counts, so that the middle is at the seam. Arms and head may do so
    some frames later, or sooner where that is negative; hips and legs do so together."""

    before: int
    after: int
    ease_before: EasingName = "ease-in-out"
    ease_after: EasingName = "ease-in-out"
    arms_later: int = 0
    head_later: int = 0

    def later(self, groups: Mapping[str, Iterable[int]]) -> dict[int, int]:
        """By how much joints blend later, of those that do, by a body's groups."""
        by = {"arm": self.arms_later, "fingers": self.arms_later, "head": self.head_later}
        return {
            joint: frames
            for name, joints in groups.items()
            if (frames := by.get(name.split()[-1], 0))
            for joint in joints
        }

    def shares(self, before: int, after: int) -> Floats:
        """How much the second clip counts ``(before + after + 1,)``, 0 to 1, ½ at the seam."""
        into, out_of = EASINGS[self.ease_before], EASINGS[self.ease_after]
        if not before:
            return np.asarray(out_of.at(np.linspace(0.0, 1.0, after + 1)))
        if not after:
            return np.asarray(into.at(np.linspace(0.0, 1.0, before + 1)))
        half = np.array([0.5])
        u = np.linspace(0.0, 0.5, before + 1)
        v = np.linspace(0.5, 1.0, after + 1)
        coming = 0.5 * into.at(u) / into.at(half)
        going = 1.0 - 0.5 * (1.0 - out_of.at(v)) / (1.0 - out_of.at(half))
        return np.concatenate([coming[:before], going])


@dataclass(frozen=True, eq=False)
class Joined:
    """Clips joined at a seam: on which frames of the new clip they blend, where the seam is, and by
    how many frames the second one lies later than its own."""

    clip: Clip
    first: int
    seam: int
    last: int
    shift: int


def joined(
    a: Clip, b: Clip, seam: Seam, blend: Blend, ids: Mapping[int, int] | None = None
) -> Joined:
    """The first clip up to the seam and the second from there on, at the first one's rate.

    Rotations take the short way at the seam and keep to its side; roots blend how they move, and
    what is left then is spread over the blend. Outside of it angles of joints are what they were,
    but for whole turns. Layers ramp in and out with the blend; those of the second clip get other
    ``ids``, by their own. :class:`BadInput` where they are not on one skeleton and rate.
    """
    same = (a.skeleton, a.layout, a.reading.up_axis, a.rate)
    if same != (b.skeleton, b.layout, b.reading.up_axis, b.rate):
        raise BadInput(
            f"join: {b.name} is on another skeleton than {a.name}, or at another rate: bring it to "
            "that first"
        )
    before, after = _room(a, b, seam, blend.before, blend.after)
    if before + after < 1:
        raise BadInput(
            f"join: at frames {seam.frame_a} and {seam.frame_b} one of the clips has no frames on "
            "either side to be blended: choose others"
        )
    by = Move(point_of(np.array(seam.fit.move.by) / a.millimetres), seam.fit.move.turn)
    placement = a.placement
    if placement is not None and placement.scale != 1.0:
        placement = None  # how far props are held off by it hangs on all of a clip
        a = _keyed_again(a, under_placement(a, placement))
    laid = _keyed_again(b, under_placement(moved_by(b, by), placement))
    return _Joint(a, laid, seam, blend, before, after, dict(ids or {})).made()


def _room(a: Clip, b: Clip, seam: Seam, before: int, after: int) -> tuple[int, int]:
    """So many frames before and after a seam, as far as both clips have them."""
    ends = a.frames - 1 - seam.frame_a, b.frames - 1 - seam.frame_b
    return min(before, seam.frame_a, seam.frame_b), min(after, *ends)


def _keyed_again(was: Clip, made: Clip) -> Clip:
    """Curves that were said anew with keys where they had some."""
    curves: Curves = {}
    for track, curve in made.curves.items():
        old = was.curves[track]
        if curve is old or not isinstance(old, KeyedCurve) or not isinstance(curve, SampledCurve):
            continue
        tolerance = KEPT_DEG if track.turns else KEPT_MM / made.millimetres
        times = np.unique(np.rint(old.unmuted.time).astype(np.int64))
        inside = times[(times >= 0) & (times < made.frames)]
        curves[track] = few_keys(curve.values, tolerance, inside)
    return made.with_curves(curves) if curves else made


@dataclass
class _Joint:
    """Two clips where they meet: the second is laid already."""

    a: Clip
    b: Clip
    at: Seam
    blend: Blend
    before: int
    after: int
    ids: dict[int, int]
    curves: Curves = field(default_factory=dict)

    @cached_property
    def share(self) -> Floats:
        return self.blend.shares(self.before, self.after)

    def later(self, by: int) -> _Joint:
        """The same, blended some frames later, as far as both clips have frames there."""
        at = replace(self.at, frame_a=self.at.frame_a + by, frame_b=self.at.frame_b + by)
        before, after = _room(self.a, self.b, at, self.before, self.after)
        if before < 0 or after < 0 or before + after < 1:
            return self
        return replace(self, at=at, before=before, after=after)

    @property
    def seam(self) -> int:
        return self.at.frame_a

    @property
    def first(self) -> int:
        return self.seam - self.before

    @property
    def last(self) -> int:
        return self.seam + self.after

    @property
    def shift(self) -> int:
        return self.seam - self.at.frame_b

    @property
    def frames(self) -> int:
        return self.b.frames + self.shift

    def made(self) -> Joined:
        a, b = self.a, self.b
        ours, theirs = (_rotations(clip) for clip in (a, b))
        later = self.blend.later(a.body.groups)
        others = {by: self.later(by) for by in {0, *later.values()}}
        for joint in range(len(a.skeleton)):
            then = others[later.get(joint, 0)]
            q, p = ours[:, joint], theirs[:, joint]
            p = -p if np.dot(q[then.seam], p[then.at.frame_b]) < 0.0 else p
            then._turned(_alike(a.turns_of(joint)), a.order(joint), q, p)
            moves = [base_track(joint, n) for n in a.layout[joint] if n[0] == "t"]
            then._moved(_alike(moves), a.skeleton.parents[joint] < 0)
        props, renamed = self._props()
        clip = replace(
            a,
            layers=self._layers(),
            curves=self.curves,
            frames=self.frames,
            props=props,
            plants=self._plants(renamed),
            contacts=self._contacts(),
            marks=tuple(sorted(self._both(a.marks, b.marks))),
            accepted=tuple(sorted(self._both(a.accepted, b.accepted))),
        )
        return Joined(clip, self.first, self.seam, self.last, self.shift)

    # --- curves ---------------------------------------------------------------------------------

    def _turned(self, pairs: Pairs, order: str, q: Floats, p: Floats) -> None:
        """Angles of rotations ``(F, 4)`` in both: one clip's, blended, the other's."""
        if not pairs:
            return
        first, last, shift = self.first, self.last, self.shift
        ours, theirs = self._values(pairs)
        blend = slice(first, last + 1)
        there = slice(first - shift, last + 1 - shift)
        mixed = rotation.great_arc(q[blend], p[there], self.share)  # by the side on which they are
        turns = np.concatenate([q[:first], mixed, p[last + 1 - shift :]])
        own = np.concatenate([ours[: last + 1], theirs[last + 1 - shift :]])
        moved = np.zeros(len(own), dtype=np.bool_)
        moved[blend] = True
        angles = said(own, turns, order, moved)
        # What comes after is as it was but for whole turns, or in another solution altogether.
        beyond = angles[last + 1 :] - theirs[last + 1 - shift :]
        whole = np.round(beyond[:1] / TURN) * TURN
        same = bool(np.abs(beyond - whole).max(initial=0.0) < 1e-9) if len(beyond) else True
        on = whole[0] if len(whole) else np.round((angles[-1] - theirs[-1]) / TURN) * TURN
        for k, pair in enumerate(pairs):
            self._put(pair, angles[:, k], float(on[k]) if same else None, KEPT_DEG)

    def _moved(self, pairs: Pairs, root: bool) -> None:
        """Position channels: roots blend how they move, others where they are."""
        if not pairs:
            return
        first, last, shift, share = self.first, self.last, self.shift, self.share
        ours, theirs = self._values(pairs)
        a, b = ours[first : last + 1], theirs[first - shift : last + 1 - shift]
        if root:
            middle = 0.5 * (share[1:] + share[:-1])[:, None]
            steps = (1.0 - middle) * np.diff(a, axis=0) + middle * np.diff(b, axis=0)
            mixed = a[0] + np.concatenate([np.zeros((1, len(pairs))), np.cumsum(steps, axis=0)])
            mixed = mixed + share[:, None] * (b[-1] - mixed[-1])
        else:
            mixed = a + share[:, None] * (b - a)
        values = np.concatenate([ours[:first], mixed, theirs[last + 1 - shift :]])
        for k, pair in enumerate(pairs):
            self._put(pair, values[:, k], 0.0, KEPT_MM / self.a.millimetres)

    def _values(self, pairs: Pairs) -> tuple[Floats, Floats]:
        """Tracks on all frames ``(F, n)``, in either clip."""
        return _values(self.a, [t for t, _ in pairs]), _values(self.b, [t for _, t in pairs])

    def _put(
        self, pair: tuple[TrackId, TrackId], values: Floats, on: float | None, tolerance: float
    ) -> None:
        """A curve of values ``(F,)``: keyed where both are, with the second one's values ``on``
        higher; None where they are said otherwise."""
        track, their = pair
        ours, theirs = self.a.curves[track], self.b.curves[their]
        if on is None or not isinstance(ours, KeyedCurve) or not isinstance(theirs, KeyedCurve):
            self.curves[track] = SampledCurve(np.ascontiguousarray(values))
            return
        inside = np.ascontiguousarray(values[self.first : self.last + 1])
        self.curves[track] = self._keyed(ours, few_keys(inside, tolerance), theirs, on)

    def _keyed(
        self, ours: KeyedCurve | None, blend: KeyedCurve, theirs: KeyedCurve | None, on: float
    ) -> KeyedCurve:
        """Keys of the first clip up to the blend, those of the blend, and of the second after it,
        its values ``on`` higher; nothing of one that does not count there."""
        first, last = self.first, self.last
        parts: list[KeyedCurve] = []
        if ours is not None and first > 0:
            parts.append(cut(ours, min(0.0, float(ours.time[0])), float(first)))
        parts.append(blend.edited(time=blend.time + first))
        if theirs is not None and last < self.frames - 1:
            end = max(float(self.b.frames - 1), float(theirs.time[-1]))
            rest = cut(theirs, float(last - self.shift), end)
            parts.append(rest.edited(time=rest.time + self.shift, value=rest.value + on))
        return replace(splice.joined(parts), extend=HELD)

    # --- what lies over them --------------------------------------------------------------------

    def _ramp(self) -> Floats:
        """How much the second clip counts ``(F,)`` on all frames."""
        out = np.zeros(self.frames)
        out[self.first : self.last + 1] = self.share
        out[self.last + 1 :] = 1.0
        return out

    def _layers(self) -> tuple[Layer, ...]:
        """The layers of both, each as far as its clip counts."""
        out: list[Layer] = []
        for layer in self.a.layers:
            for track in layer.tracks:
                self.curves[track] = self._ours(self.a.curves[track])
            self.curves[layer.weight] = self._weight(self.a.curves[layer.weight], None)
            out.append(layer)
        names = {x.name for x in out}
        for layer in self.b.layers:
            name = free_name(layer.name, names)
            names.add(name)
            other = replace(layer, id=self.ids.get(layer.id, layer.id), name=name)
            for track, own in zip(layer.tracks, other.tracks, strict=True):
                self.curves[own] = self._theirs(self.b.curves[track])
            self.curves[other.weight] = self._weight(None, self.b.curves[layer.weight])
            out.append(other)
        return tuple(out)

    def _weight(self, ours: Curve | None, theirs: Curve | None) -> Curve:
        """A layer's weight, times how much its clip counts: that is the first or the second."""
        ramp = self._ramp()
        if theirs is None:
            assert ours is not None
            whole, ramp = self._ours(ours), 1.0 - ramp
        else:
            whole = self._theirs(theirs)
        values = whole.at(np.arange(self.frames, dtype=np.float64)) * ramp
        if isinstance(whole, SampledCurve):
            return SampledCurve(values)
        inside = np.ascontiguousarray(values[self.first : self.last + 1])
        blend = few_keys(inside, KEPT_WEIGHT)
        keyed = [c if isinstance(c, KeyedCurve) else None for c in (ours, theirs)]
        return self._keyed(keyed[0], blend, keyed[1], 0.0)

    def _ours(self, curve: Curve) -> Curve:
        """A curve of the first clip, held after its end."""
        if isinstance(curve, KeyedCurve):
            return curve
        more = max(self.frames - len(curve.values), 0)
        return SampledCurve(np.pad(curve.values, (0, more), mode="edge")[: self.frames])

    def _theirs(self, curve: Curve) -> Curve:
        """A curve of the second clip on the new frames, held before its beginning."""
        if isinstance(curve, KeyedCurve):
            return curve.edited(time=curve.time + self.shift)
        at = np.clip(np.arange(self.frames) - self.shift, 0, self.b.frames - 1)
        return SampledCurve(np.ascontiguousarray(curve.values[at]))

    def _props(self) -> tuple[tuple[Prop, ...], dict[str, str]]:
        """The props of both. One of one name and shape in both is one thing, and goes on from where
        it was to where it is; the others are beside one another."""
        out = list(self.a.props)
        named = {p.name: p for p in out}
        renamed: dict[str, str] = {}
        for prop in self.a.props:
            for track in prop.tracks:
                self.curves[track] = self._ours(self.a.curves[track])
        for prop in self.b.props:
            ours = named.get(prop.name)
            if ours is not None and (ours.shape, ours.size) == (prop.shape, prop.size):
                self._one_prop(ours, prop)
                continue
            name = free_name(prop.name, {p.name for p in out})
            renamed[prop.name] = name
            other = replace(prop, id=max((p.id for p in out), default=-1) + 1, name=name)
            for track, own in zip(prop.tracks, other.tracks, strict=True):
                self.curves[own] = self._theirs(self.b.curves[track])
            out.append(other)
        return tuple(out), renamed

    def _one_prop(self, ours: Prop, theirs: Prop) -> None:
        """A prop that is in both, blended as a root is."""
        turns = [f"r{axis.lower()}" for axis in ORDER]
        turned = [(prop_track(ours.id, n), prop_track(theirs.id, n)) for n in turns]
        moved = [(prop_track(ours.id, n), prop_track(theirs.id, n)) for n in ("tx", "ty", "tz")]
        q, p = (rotation.hemisphere(quaternions(v, ORDER)) for v in self._values(turned))
        p = -p if np.dot(q[self.seam], p[self.at.frame_b]) < 0.0 else p
        self._turned(turned, ORDER, q, p)
        self._moved(moved, root=True)

    # --- spans ----------------------------------------------------------------------------------

    def _plants(self, renamed: Mapping[str, str]) -> tuple[Plant, ...]:
        """A plant of the first clip holds up to the seam, one of the second from there on; a foot
        that both hold at the seam is let go of by the one as the other takes it."""
        ours = [
            replace(p, last=min(p.last, self.seam), ease_out=self._out(p))
            for p in self.a.plants
            if p.first <= self.seam
        ]
        theirs = [
            replace(
                p,
                first=max(p.first + self.shift, self.seam + 1),
                last=p.last + self.shift,
                ease_in=self._in(p),
                with_prop=renamed.get(p.with_prop, p.with_prop),
            )
            for p in self.b.plants
            if p.last + self.shift > self.seam
        ]
        return told_apart([*ours, *theirs])

    def _out(self, plant: Plant) -> int:
        return plant.ease_out if plant.last <= self.seam else max(self.after, 1)

    def _in(self, plant: Plant) -> int:
        return plant.ease_in if plant.first + self.shift > self.seam else max(self.before, 1)

    def _contacts(self) -> tuple[Contact, ...]:
        """One where those of both meet."""
        out: list[Contact] = []
        for contact in self._both(contacts_of(self.a), contacts_of(self.b)):
            meets = next(
                (
                    k
                    for k, c in enumerate(out)
                    if (c.limb, c.last + 1) == (contact.limb, contact.first)
                ),
                None,
            )
            if meets is None or contact.first != self.seam + 1:
                out.append(contact)
            else:
                out[meets] = replace(out[meets], last=contact.last)
        return tuple(sorted(out))

    def _both(self, ours: Iterable[Span], theirs: Iterable[Span]) -> list[Span]:
        """Of the first clip up to the seam, of the second after it."""
        seam, shift = self.seam, self.shift
        out = [replace(s, last=min(s.last, seam)) for s in ours if s.first <= seam]
        for span in theirs:
            if span.last + shift > seam:
                first = max(span.first + shift, seam + 1)
                out.append(replace(span, first=first, last=span.last + shift))
        return out


def _alike(tracks: Iterable[TrackId]) -> Pairs:
    return [(t, t) for t in tracks]


def _rotations(clip: Clip) -> Floats:
    """Of all joints ``(F, J, 4)``, neighbours on one side of the sphere."""
    joints = range(len(clip.skeleton))
    return rotation.hemisphere(base_pose(clip, times_of(clip, None), joints).rotation)


def _values(clip: Clip, tracks: Sequence[TrackId]) -> Floats:
    """Tracks on all frames ``(F, n)``."""
    found = curve_values(clip, times_of(clip, None), tracks)
    return np.stack([found[t] for t in tracks], axis=-1)
