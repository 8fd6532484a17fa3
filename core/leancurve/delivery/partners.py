"""Partners in what is delivered: figures of their own beside the clip's."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.delivery.preset import Preset
from leancurve.document.clip import Clip
from leancurve.document.partner import Partner
from leancurve.document.placement import unplaced_points, unplaced_turns
from leancurve.document.root_motion import leading_root
from leancurve.document.rotations import angles_afresh
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput, short
from leancurve.figure.pose import Pose
from leancurve.figure.skeleton import EndSite, Skeleton, turn_between
from leancurve.joining.beside import Stand, pose_beside
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

MOVES = 1e-6
"""A joint whose place leaves its rest by more, as a share of the rest's height, has places."""
ORDERS = {"x": "XYZ", "y": "YXZ", "z": "ZXY"}
"""The rotation order of a partner's joints by the axis that is up: heading first."""


def tag_of(partner: Partner) -> str:
    """What the names of a partner's joints begin with: no character that any format refuses."""
    return "".join(c if c.isalnum() else "_" for c in partner.name) + "_"


def is_partners(clip: Clip, joint: int) -> bool:
    """Whether a joint of a clip made by :func:`with_partners` is a partner's: on its root."""
    root = clip.skeleton.chain(joint)[-1]
    named = any(clip.skeleton.names[root].startswith(tag_of(p)) for p in clip.partners)
    return named and root != leading_root(clip)


def staged(clip: Clip, preset: Preset, others: Mapping[str, Clip]) -> Clip:
    """The clip with its partners where a preset asks for them; clip JSON names them as they are."""
    return with_partners(clip, others) if preset.partners and preset.format != "json" else clip


def with_partners(clip: Clip, others: Mapping[str, Clip]) -> Clip:
    """The clip with its partners as joints of its skeleton, each figure with roots of its own, as
    they stand on each frame; ``others`` are their clips by their digests. Muted ones stay away.

    The figure's own joints keep their numbers and what they are taken for. :class:`BadInput` where
    a partner's clip is not there, or a joint is named as one of its would be.
    """
    shown = tuple(p for p in clip.partners if not p.muted)
    roles = tuple(zip(clip.skeleton.names, (j.role for j in clip.body.joints), strict=True))
    out = replace(clip, partners=shown, reading=replace(clip.reading, roles=roles))
    for partner in shown:
        if partner.digest not in others:
            raise BadInput(f"{short(partner.name)}: the partner's clip is not here any more")
        if any(name.startswith(tag_of(partner)) for name in out.skeleton.names):
            raise BadInput(f"{short(partner.name)}: call the partner otherwise, as no joint is")
        out = _beside(clip, out, partner, others[partner.digest])
    return out


def _beside(clip: Clip, wider: Clip, partner: Partner, other: Clip) -> Clip:
    """A wider clip with one more figure, which stands in the clip's scene as a partner says."""
    first, tag = len(wider.skeleton), tag_of(partner)
    names = tuple(tag + n.replace(":", "_").replace("|", "_") for n in other.skeleton.names)
    skeleton = _joined(wider.skeleton, _in_axes(clip, other), names)
    pose = _before_placement(
        clip, other, pose_beside(clip, other, Stand.of(clip, partner).placed(clip))
    )
    order = ORDERS[clip.reading.up_axis]
    turns = tuple(f"r{a.lower()}" for a in order)
    angles = angles_afresh(pose.rotation.transpose(1, 0, 2), order)
    rest = skeleton.offset_array[first:]
    most = MOVES * max(clip.skeleton.rest_height, 1e-9)
    layout, curves = list(wider.layout), dict(wider.curves)
    for joint, above in enumerate(other.skeleton.parents):
        own, places = first + joint, pose.translation[:, joint]
        moves = above < 0 or np.abs(places - rest[joint]).max(initial=0.0) > most
        layout.append((("tx", "ty", "tz") if moves else ()) + turns)
        curves |= _curves(own, turns, angles[joint])
        if moves:
            adds = clip.reading.root_positions if above < 0 else clip.reading.joint_positions
            curves |= _curves(own, layout[-1][:3], places - (rest[joint] if adds == "add" else 0.0))
    roles = (*wider.reading.roles, *((name, "helper") for name in names))
    reading = replace(wider.reading, roles=roles)
    return replace(wider, skeleton=skeleton, layout=tuple(layout), curves=curves, reading=reading)


def _before_placement(clip: Clip, other: Clip, pose: Pose) -> Pose:
    """The pose as curves say it: the placement puts all roots where they are seen."""
    placement = clip.placement
    if placement is None or not placement.counts:
        return pose
    turns, places = pose.rotation.copy(), pose.translation.copy()
    for root in other.skeleton.roots:
        turns[:, root] = unplaced_turns(clip, placement, turns[:, root])
        places[:, root] = unplaced_points(clip, placement, places[:, root])
    return Pose(turns, places)


def _curves(joint: int, names: tuple[str, ...], columns: Floats) -> dict[TrackId, Curve]:
    return {
        base_track(joint, name): SampledCurve(np.ascontiguousarray(columns[:, k]))
        for k, name in enumerate(names)
    }


def _in_axes(clip: Clip, other: Clip) -> Skeleton:
    """The other clip's skeleton in this one's unit; its roots at rest stand upright here."""
    theirs, scale = other.skeleton, other.millimetres / clip.millimetres
    upright = turn_between(other.reading.up_axis, clip.reading.up_axis)
    offsets = theirs.offset_array * scale
    rests = theirs.rest_rotations.copy()
    for root in theirs.roots:
        offsets[root] = rotation.rotate(upright, offsets[root])
        rests[root] = rotation.multiply(upright, rests[root])
    ends = tuple(replace(e, offset=_three(np.array(e.offset) * scale)) for e in theirs.ends)
    return replace(
        theirs, offsets=tuple(map(_three, offsets)), ends=ends,
        rests=tuple((float(x), float(y), float(z), float(w)) for x, y, z, w in rests),
    )  # fmt: skip


def _joined(one: Skeleton, other: Skeleton, names: tuple[str, ...]) -> Skeleton:
    """Both skeletons' joints in one, the other's after all of the first's."""
    first = len(one)
    ends = tuple(EndSite(e.parent + first, e.offset, e.before + first) for e in other.ends)
    return Skeleton(
        (*one.names, *names),
        (*one.parents, *(p + first if p >= 0 else -1 for p in other.parents)),
        (*one.offsets, *other.offsets),
        (*one.ends, *ends),
        (*one.rests, *other.rests),
    )


def _three(values: Floats) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return x, y, z
