"""Keys of a scene's animations that curves follow to the bit, kept as they are."""

from __future__ import annotations

from collections import Counter

import numpy as np

from leancurve.curves.curve import KeyedCurve
from leancurve.document.rotations import angles_afresh
from leancurve.formats.scene.fitted import fitted_angles
from leancurve.formats.scene.keys import key_curves
from leancurve.formats.scene.moves import Animation, Sampler
from leancurve.formats.scene.posed import ON_FRAME, Motion
from leancurve.formats.scene.scene import Figure
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

IN_WORDS = {"LINEAR": "straight", "STEP": "held", "CUBICSPLINE": "curved"}


class Kept:
    """What of a figure's motion keeps its keys: positions between any keys, rotations that are
    held, and others where they may be fitted within some degrees. A value on every frame is no
    key. ``count`` says how many joints' do as they are, by how they go from key to key, and
    ``fitted`` how many others."""

    def __init__(
        self, figure: Figure, animation: Animation, motion: Motion,
        within_deg: float | None = None,
    ) -> None:  # fmt: skip
        self.figure, self.animation, self.motion = figure, animation, motion
        self.within_deg = within_deg
        self.count: Counter[tuple[str, str]] = Counter()
        self.fitted = 0

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
        return key_curves(times, values, sampler.way, tangents)

    def angles(self, joint: int, order: str) -> list[KeyedCurve] | None:
        """A joint's three rotation curves where it is held from key to key or may be fitted,
        else None."""
        keys, over = self._keys(joint, "rotation"), self.motion.over
        root = self.figure.parents[joint] < 0
        if keys is None or (root and not over.stands):
            return None
        sampler, times = keys
        told, near = self.motion.told, self.motion.near

        def hung(own: Floats) -> Floats:
            return rotation.multiply(over.turn, own) if root else own

        def turned(frames: Floats) -> Floats:
            return hung(sampler.at(told.first + frames / float(told.rate), True, near))

        if sampler.way == "STEP":
            self.count["rotation", "STEP"] += 1
            held = angles_afresh(hung(rotation.normalise(sampler.values)), order)
            return key_curves(times, held, "STEP", None)
        if self.within_deg is None:
            return None
        curves = fitted_angles(turned, times, told.frames, order, self.within_deg)
        self.fitted += curves is not None
        return curves

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
        out = []
        if self.count:
            told = ", ".join(
                f"{what}s of {_joints(n)} ({IN_WORDS[way]})"
                for (what, way), n in sorted(self.count.items())
            )
            out.append(f"keys are kept as they are: {told}")
        if self.fitted:
            out.append(
                f"rotations of {_joints(self.fitted)} are keyed within "
                f"{self.within_deg:g}° between frames too, with keys added where it takes them"
            )
        return out


def _joints(n: int) -> str:
    return f"{n} {'joint' if n == 1 else 'joints'}"
