"""A compiled loop over time: how a body turns whose angular momentum is given."""

from __future__ import annotations

import math

from leancurve.numbers.arrays import Floats
from leancurve.numbers.kernels import kernel


@kernel
def rate_of_turn(
    x: float, y: float, z: float, w: float, momentum: Floats, spun: Floats, inverse: Floats
) -> tuple[float, float, float, float]:
    """What a turn changes by in a second: half of it times the angular velocity in its own axes."""
    # The momentum seen from the body: turned back.
    tx = 2.0 * (momentum[1] * z - momentum[2] * y)
    ty = 2.0 * (momentum[2] * x - momentum[0] * z)
    tz = 2.0 * (momentum[0] * y - momentum[1] * x)
    lx = momentum[0] + w * tx + (ty * z - tz * y) - spun[0]
    ly = momentum[1] + w * ty + (tz * x - tx * z) - spun[1]
    lz = momentum[2] + w * tz + (tx * y - ty * x) - spun[2]
    a = 0.5 * (inverse[0, 0] * lx + inverse[0, 1] * ly + inverse[0, 2] * lz)
    b = 0.5 * (inverse[1, 0] * lx + inverse[1, 1] * ly + inverse[1, 2] * lz)
    c = 0.5 * (inverse[2, 0] * lx + inverse[2, 1] * ly + inverse[2, 2] * lz)
    return (
        w * a + y * c - z * b,
        w * b + z * a - x * c,
        w * c + x * b - y * a,
        -(x * a + y * b + z * c),
    )


@kernel
def tumble(inverse: Floats, spun: Floats, momentum: Floats, step: float, out: Floats) -> None:
    """Turns ``(N + 1, 4)`` of a body from none on, by the classical method of Runge and Kutta: on
    each of N steps its inverse inertia ``(N, 3, 3)`` and the momentum ``(N, 3)`` that its parts
    have by themselves, in its own axes."""
    x, y, z, w = 0.0, 0.0, 0.0, 1.0
    out[0, 0], out[0, 1], out[0, 2], out[0, 3] = x, y, z, w
    for n in range(inverse.shape[0]):
        m, h = inverse[n], spun[n]
        a = rate_of_turn(x, y, z, w, momentum, h, m)
        s = 0.5 * step
        b = rate_of_turn(x + s * a[0], y + s * a[1], z + s * a[2], w + s * a[3], momentum, h, m)
        c = rate_of_turn(x + s * b[0], y + s * b[1], z + s * b[2], w + s * b[3], momentum, h, m)
        d = rate_of_turn(
            x + step * c[0], y + step * c[1], z + step * c[2], w + step * c[3], momentum, h, m
        )
        s = step / 6.0
        x += s * (a[0] + 2.0 * (b[0] + c[0]) + d[0])
        y += s * (a[1] + 2.0 * (b[1] + c[1]) + d[1])
        z += s * (a[2] + 2.0 * (b[2] + c[2]) + d[2])
        w += s * (a[3] + 2.0 * (b[3] + c[3]) + d[3])
        size = math.sqrt(x * x + y * y + z * z + w * w)
        x, y, z, w = x / size, y / size, z / size, w / size
        out[n + 1, 0], out[n + 1, 1], out[n + 1, 2], out[n + 1, 3] = x, y, z, w
