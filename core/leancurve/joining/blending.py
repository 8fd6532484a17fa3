"""One clip after another: the second is laid at the seam, and the first becomes it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

import numpy as np

from leancurve.cleaning.contacts import contacts_of
from leancurve.curves.curve import Curve, SampledCurve
from leancurve.curves.easing import EASINGS, EasingName
from leancurve.document.base import base_pose, channel_values, times_of
from leancurve.document.clip import Clip, Contact, Mark
from leancurve.document.moves import Move, point_of
from leancurve.document.parts.registry import moved_by
from leancurve.document.rotations import said
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.joining.seams import Seam
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.time.resample import resampled

Span = TypeVar("Span", Contact, Mark)

BLEND_S = 0.3
"""How long before and after the seam one clip becomes the other: longer ones look no better."""


@dataclass(frozen=True, eq=False)
class Joined:
    """Clips joined at a seam: on which frames of the new clip they blend, and where the seam is."""

    clip: Clip
    first: int
    seam: int
    last: int


def alike(a: Clip, b: Clip) -> Clip:
    """The second clip as the first one has its frames; :class:`BadInput` where it is on another
    skeleton, or says its joints otherwise."""
    if a.skeleton != b.skeleton or a.layout != b.layout or a.reading.up_axis != b.reading.up_axis:
        raise BadInput(
            f"join: {b.name} is on another skeleton than {a.name}: retarget it to that first"
        )
    return b if a.rate == b.rate else resampled(b, a.rate)


def joined(
    a: Clip, b: Clip, seam: Seam, before: int, after: int, easing: EasingName = "ease-in-out"
) -> Joined:
    """The first clip up to the seam and the second from there on, at the first one's rate: so many
    frames ``before`` and ``after`` the seam one becomes the other. What plays is joined: layers,
    plants and placement are in the curves.

    Rotations take the short way at the seam and keep to its side; roots blend how they move, and
    what is left then is spread over the blend. Outside of it angles of joints are what they were,
    but for whole turns; the second clip's roots are said anew where they are laid.
    """
    before = min(before, seam.frame_a, seam.frame_b)
    after = min(after, a.frames - 1 - seam.frame_a, b.frames - 1 - seam.frame_b)
    if before + after < 1:
        raise BadInput(
            f"join: at frames {seam.frame_a} and {seam.frame_b} one of the clips has no frames on "
            "either side to be blended: choose others"
        )
    mm = a.millimetres
    by = Move(point_of(np.array(seam.fit.move.by) / mm), seam.fit.move.turn)
    one, two = resampled(a, planted=True), resampled(moved_by(b, by), planted=True)
    first, last = seam.frame_a - before, seam.frame_a + after
    shift = seam.frame_a - seam.frame_b
    frames = b.frames + shift
    share = EASINGS[easing].at(np.linspace(0.0, 1.0, before + after + 1))
    curves: dict[TrackId, Curve] = {}
    rotations = _rotations(one), _rotations(two)
    for joint in range(len(a.skeleton)):
        q, p = (turns[:, joint] for turns in rotations)
        p = -p if np.dot(q[seam.frame_a], p[seam.frame_b]) < 0.0 else p
        curves |= _turned(one, two, joint, q, p, first, last, shift, share)
        curves |= _moved(one, two, joint, first, last, shift, share)
    at = seam.frame_a
    clip = replace(
        one, curves=curves, frames=frames, props=(), accepted=(),
        contacts=_contacts(one, two, at, shift), marks=_marks(one, two, at, shift),
    )  # fmt: skip
    return Joined(clip, first, seam.frame_a, last)


def _rotations(clip: Clip) -> Floats:
    """Of all joints ``(F, J, 4)``, neighbours on one side of the sphere."""
    joints = range(len(clip.skeleton))
    return rotation.hemisphere(base_pose(clip, times_of(clip, None), joints).rotation)


def _turned(
    one: Clip, two: Clip, joint: int, q: Floats, p: Floats, first: int, last: int, shift: int,
    share: Floats,
) -> dict[TrackId, Curve]:  # fmt: skip
    """A joint's angles, of rotations ``(F, 4)`` in both: one clip's, blended, the other's."""
    tracks, order = one.turns_of(joint), one.order(joint)
    if not tracks:
        return {}
    ours, theirs = (_angles(clip, tracks) for clip in (one, two))
    blend = slice(first, last + 1)
    there = slice(first - shift, last + 1 - shift)
    mixed = rotation.great_arc(q[blend], p[there], share)  # by the side on which they are
    turns = np.concatenate([q[:first], mixed, p[last + 1 - shift :]])
    own = np.concatenate([ours[: last + 1], theirs[last + 1 - shift :]])
    moved = np.zeros(len(own), dtype=np.bool_)
    moved[blend] = True
    angles = said(own, turns, order, moved)
    return {t: SampledCurve(np.ascontiguousarray(angles[:, k])) for k, t in enumerate(tracks)}


def _angles(clip: Clip, tracks: list[TrackId]) -> Floats:
    values = channel_values(clip, None, tracks)
    return np.stack([values[t] for t in tracks], axis=-1)


def _moved(
    one: Clip, two: Clip, joint: int, first: int, last: int, shift: int, share: Floats
) -> dict[TrackId, Curve]:
    """A joint's position channels: roots blend how they move, others where they are."""
    tracks = [base_track(joint, n) for n in one.layout[joint] if n[0] == "t"]
    if not tracks:
        return {}
    ours, theirs = (_angles(clip, tracks) for clip in (one, two))
    a, b = ours[first : last + 1], theirs[first - shift : last + 1 - shift]
    if one.skeleton.parents[joint] < 0:
        middle = 0.5 * (share[1:] + share[:-1])[:, None]
        steps = (1.0 - middle) * np.diff(a, axis=0) + middle * np.diff(b, axis=0)
        mixed = a[0] + np.concatenate([np.zeros((1, len(tracks))), np.cumsum(steps, axis=0)])
        mixed = mixed + share[:, None] * (b[-1] - mixed[-1])
    else:
        mixed = a + share[:, None] * (b - a)
    values = np.concatenate([ours[:first], mixed, theirs[last + 1 - shift :]])
    return {t: SampledCurve(np.ascontiguousarray(values[:, k])) for k, t in enumerate(tracks)}


def _contacts(one: Clip, two: Clip, seam: int, shift: int) -> tuple[Contact, ...]:
    """One where those of both meet."""
    out, theirs = _spans(contacts_of(one), contacts_of(two), seam, shift)
    for contact in theirs:
        meets = next(
            (k for k, c in enumerate(out) if (c.limb, c.last + 1) == (contact.limb, contact.first)),
            None,
        )
        if meets is None:
            out.append(contact)
        else:
            out[meets] = replace(out[meets], last=contact.last)
    return tuple(sorted(out))


def _marks(one: Clip, two: Clip, seam: int, shift: int) -> tuple[Mark, ...]:
    ours, theirs = _spans(one.marks, two.marks, seam, shift)
    return tuple(sorted([*ours, *theirs]))


def _spans(
    ours: Sequence[Span], theirs: Sequence[Span], seam: int, shift: int
) -> tuple[list[Span], list[Span]]:
    """Of the first clip up to the seam, of the second after it."""
    return (
        [replace(s, last=min(s.last, seam)) for s in ours if s.first <= seam],
        [
            replace(s, first=max(s.first + shift, seam + 1), last=s.last + shift)
            for s in theirs
            if s.last + shift > seam
        ],
    )
