"""Keys of a scene's animations that curves follow to the bit, kept as they are."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np

from leancurve.curves.curve import Handle, KeyedCurve, KeyFlag, Segment, keyed
from leancurve.curves.handles import settled
from leancurve.document.rotations import angles_afresh
from leancurve.formats.scene.moves import Animation, Sampler
from leancurve.formats.scene.posed import ON_FRAME, Motion
from leancurve.formats.scene.scene import Figure
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

SEGMENTS = {
    "LINEAR": (Handle.STRAIGHT, Segment.STRAIGHT),
    "STEP": (Handle.HOLD, Segment.HOLD),
    "CUBICSPLINE": (Handle.FREE, Segment.CURVE),
}
IN_WORDS = {"LINEAR": "straight", "STEP": "held", "CUBICSPLINE": "curved"}


class Kept:
    """What of a figure's motion keeps its keys: positions between any keys, rotations that are
    held. A value on every frame is no key. ``count`` says how many joints' do, by how they go
    from key to key."""

    def __init__(self, figure: Figure, animation: Animation, motion: Motion) -> None:
        self.figure, self.animation, self.motion = figure, animation, motion
        self.count: Counter[tuple[str, str]] = Counter()

    def positions(self, joint: int) -> list[KeyedCurve] | None:
        """A joint's three position curves; None where its place is not moved by keys alone."""
        keys, hung_on = self._keys(joint, "translation"), self._hung_on(joint)
        if keys is None or hung_on is None:
            return None
        (sampler, times), (size, turn, place) = keys, hung_on

        def placed(values: Floats) -> Floats:
            # What hangs straight keeps its numbers to the bit.
            turned = values if np.array_equal(turn, [0, 0, 0, 1]) else rotation.rotate(turn, values)
            return np.asarray(turned if size == 1.0 else size * turned)

        values = placed(sampler.values)
        if np.any(place):
            values = values + place
        rate = float(self.motion.told.rate)
        tangents = None
        if sampler.tangents is not None:
            tangents = np.stack([placed(sampler.tangents[:, side]) for side in (0, 1)], 1) / rate
        self.count["position", sampler.way] += 1
        return _curves(times, values, sampler.way, tangents)

    def angles(self, joint: int, order: str) -> list[KeyedCurve] | None:
        """A joint's three rotation curves where it is held from key to key, else None."""
        keys = self._keys(joint, "rotation")
        if keys is None or keys[0].way != "STEP":
            return None
        sampler, times = keys
        turns = rotation.normalise(sampler.values)
        if self.figure.parents[joint] < 0:
            if not self.motion.over.stands:
                return None
            turns = rotation.multiply(self.motion.over.turn, turns)
        self.count["rotation", sampler.way] += 1
        return _curves(times, angles_afresh(turns, order), sampler.way, None)

    def _keys(self, joint: int, path: str) -> tuple[Sampler, Floats] | None:
        """What moves a joint's property, and the frames of its keys; None where each frame has
        one or some lie where no key may."""
        sampler = self.animation.moves.get((self.figure.nodes[joint], path))
        told = self.motion.told
        if sampler is None or len(sampler.seconds) >= told.frames:
            return None
        frames = (sampler.seconds - told.first) * float(told.rate)
        near = np.round(frames)
        frames = np.where(np.abs(frames - near) <= ON_FRAME, near, frames)
        if np.any(np.diff(frames) <= ON_FRAME) or frames[-1] > told.frames - 1:
            return None
        return sampler, frames

    def _hung_on(self, joint: int) -> tuple[float, Floats, Floats] | None:
        """The scale, rotation and place that a joint's own place is put into; None where they
        move."""
        parent = self.figure.parents[joint]
        if parent < 0:
            over = self.motion.over
            if not over.stands:
                return None
            return float(over.size[0]), over.turn[0], over.place[0]
        sizes = self.motion.sizes[:, parent]
        if np.ptp(sizes) > 0.0:
            return None
        return float(sizes[0]), np.array([0.0, 0.0, 0.0, 1.0]), np.zeros(3)

    def said(self) -> list[str]:
        """What kept its keys, in words; none where nothing did."""
        if not self.count:
            return []
        told = ", ".join(
            f"{what}s of {n} {'joint' if n == 1 else 'joints'} ({IN_WORDS[way]})"
            for (what, way), n in sorted(self.count.items())
        )
        return [f"keys are kept as they are: {told}"]


def _curves(times: Floats, values: Floats, way: str, tangents: Floats | None) -> list[KeyedCurve]:
    """Curves of keys ``(K,)`` with values ``(K, n)`` and slopes ``(K, 2, n)`` a frame."""
    handle, segment = SEGMENTS[way]
    out = []
    for k in range(values.shape[1]):
        own = np.ascontiguousarray(values[:, k])
        curve = keyed(times, own, np.zeros(len(own)), handle=handle, segment=segment)
        if tangents is not None:
            into, away = tangents[:, 0, k].copy(), tangents[:, 1, k].copy()
            flags = np.where(into == away, 0, KeyFlag.BROKEN).astype(np.uint8)
            curve = replace(curve, slope_in=into, slope_out=away, flags=flags)
        elif handle == Handle.STRAIGHT:
            curve = settled(curve, np.ones(len(own), dtype=np.bool_))
        out.append(curve.checked())
    return out
