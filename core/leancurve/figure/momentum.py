"""Angular momentum: how a body has to turn in the air for it to stay what it was.

A body that touches nothing keeps the angular momentum about its centre of mass. What its limbs do
is given; the body as a whole turns by what is left of it.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats

ROUNDS = 12
"""Newton's method, from the mean momentum on, needs three or four on a jump."""
UNWILLING = 100.0
"""How much more the square of the whole body's speed counts than that of a limb: arms are a tenth
of its inertia, and would whirl about if they had to do all of it."""
CLOSE = 1e-10
"""Radians by which the last frame may miss where it shall be."""


@dataclass(frozen=True, eq=False)
class Spin:
    """How points ``(N + 1, P, 3)`` that share a mass ``(P,)`` go round their centre, on the N steps
    between frames and per unit of mass: their inertia ``(N, 3, 3)``, and the angular momentum that
    they have ``(N, 3)`` as they move, squares of the length a second."""

    points: Floats
    shares: Floats
    inertia: Floats
    spun: Floats
    rate: float

    @cached_property
    def inverse(self) -> Floats:
        """Of the inertia ``(N, 3, 3)``."""
        return np.ascontiguousarray(np.linalg.inv(self.inertia))

    def turned(self, momentum: Floats) -> Floats:
        """How it turns further ``(N + 1, 4)``, from the first frame on, with an angular momentum
        ``(3,)`` in the world's axes."""
        from leancurve.numbers.kernels import tumbling  # numba loads late

        out = np.empty((len(self.spun) + 1, 4))
        given = np.ascontiguousarray(momentum, dtype=np.float64)
        tumbling.tumble(self.inverse, self.spun, given, 1.0 / self.rate, out)
        return out

    def kept(self) -> Floats | None:
        """How it turns further ``(N + 1, 4)`` so that one angular momentum is kept throughout, and
        it stands on the first and on the last frame as it stood; None where no momentum is found.
        """
        momentum = self.spun.mean(axis=0)
        size = float(np.abs(self.spun).max(initial=0.0)) or 1.0
        missed = self._missed(momentum)
        for _ in range(ROUNDS):
            if np.linalg.norm(missed) < CLOSE:
                return self.turned(momentum)
            by = 1e-4 * size
            slopes = np.stack(
                [(self._missed(momentum + by * axis) - missed) / by for axis in np.eye(3)], axis=1
            )
            try:
                momentum = momentum - np.linalg.solve(slopes, missed)
            except np.linalg.LinAlgError:
                return None
            missed = self._missed(momentum)
        return self.turned(momentum) if np.linalg.norm(missed) < 1e-6 else None

    def lacking(self) -> Floats | None:
        """The angular momentum ``(N, 3)``, per unit of mass and in the axes in which it moves, that
        turning as a whole gives the body so that one is kept; None where none is found."""
        turned = self.kept()
        if turned is None:
            return None
        by = rotation.multiply(rotation.conjugate(turned[:-1]), turned[1:])
        speed = np.radians(rotation.log(by)) * self.rate
        return np.asarray((self.inertia @ speed[..., None])[..., 0])

    def limbs_turned(self, origins: Floats, parts: Bools) -> Floats | None:
        """How K limbs turn further ``(N + 1, K, 3)``, rotation vectors in the world in degrees, so
        that together they have most of the angular momentum that is lacking, and the body as a
        whole has to turn for the rest: with the least squares of their speeds, where the body's
        counts more. None where nothing is found.

        They turn about ``origins (N + 1, K, 3)``; ``parts (K, P)`` says which points each takes
        along. On both ends they stand as they stood: what is left there is spread.
        """
        lacking = self.lacking()
        if lacking is None:
            return None
        middle = _between(_about_centre(self.points, self.shares))
        places, turning = _between(self.points), _between(origins)
        moved = []
        for k, own in enumerate(parts):
            a, b = middle[:, own], places[:, own] - turning[:, k, None]
            mass = self.shares[own]
            # a x (w x b) = w (a . b) - b (a . w)
            along = np.einsum("p,npi,npi->n", mass, a, b)[:, None, None] * np.eye(3)
            moved.append(along - np.einsum("p,npi,npj->nij", mass, b, a))
        limbs, body = np.concatenate(moved, axis=2), self.inertia
        back = limbs.swapaxes(1, 2)
        pairs = limbs @ back + body @ body.swapaxes(1, 2) / UNWILLING
        speeds = (back @ np.linalg.solve(pairs, lacking[..., None]))[..., 0]
        steps = np.degrees(speeds.reshape(len(speeds), len(parts), 3)) / self.rate
        turned = np.concatenate([np.zeros((1, len(parts), 3)), np.cumsum(steps, axis=0)])
        share = np.linspace(0.0, 1.0, len(turned))[:, None, None]
        return np.asarray(turned - share * turned[-1])

    def _missed(self, momentum: Floats) -> Floats:
        """By how much the last frame is turned: a rotation vector ``(3,)`` in radians."""
        return np.asarray(np.radians(rotation.log(self.turned(momentum)[-1:])[0]))


def spin_of(points: Floats, shares: Floats, rate: float) -> Spin | None:
    """That of points ``(F, P, 3)`` that share a mass ``(P,)``; None where they lie on one line."""
    about = _about_centre(points, shares)
    middle = _between(about)
    speed = np.diff(about, axis=0) * rate
    spun = np.einsum("p,fpk->fk", shares, np.cross(middle, speed))
    squares = np.einsum("p,fpk,fpk->f", shares, middle, middle)
    products = np.einsum("p,fpj,fpk->fjk", shares, middle, middle)
    inertia = squares[:, None, None] * np.eye(3) - products
    sizes = np.linalg.eigvalsh(inertia)
    if not len(spun) or np.any(sizes[:, 0] <= 1e-9 * np.maximum(sizes[:, 2], 1e-300)):
        return None
    return Spin(points, shares, inertia, np.ascontiguousarray(spun), rate)


def _about_centre(points: Floats, shares: Floats) -> Floats:
    """Points ``(F, P, 3)`` seen from the centre of their mass."""
    return np.asarray(points - np.einsum("p,fpk->fk", shares, points)[:, None])


def _between(values: Floats) -> Floats:
    """Values ``(F, ...)`` on frames as they are in the middle of the steps between."""
    return np.asarray(0.5 * (values[1:] + values[:-1]))
