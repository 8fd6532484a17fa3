"""What a finding is, and the motion as detectors look at it: each view is made once."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, TypeVar, cast

import numpy as np

from leancurve.cleaning.contacts import STATURE_MM, Support, support_of, tidy
from leancurve.cleaning.continuity import Flips, continuity_breaks
from leancurve.document.clip import Clip, Contact
from leancurve.document.evaluation import effective, posed
from leancurve.document.track import TrackId
from leancurve.figure.body import Body
from leancurve.figure.pose import Pose
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats, runs

T = TypeVar("T")


@dataclass(frozen=True)
class Finding:
    """One thing measured to be wrong. ``first`` to ``last`` are frames, both included.

    ``joint`` is a name, ``channel`` empty where the whole joint is meant, ``size`` in ``unit``,
    ``severity`` from 0 (at its kind's threshold) to 1.
    """

    kind: str
    joint: str
    channel: str
    first: int
    last: int
    size: float
    unit: str
    severity: float
    accepted: bool = False


@dataclass(frozen=True)
class Kind:
    """A kind of finding: its name and plural, what it is, what mends it, its detector.

    ``remedy`` names the operation that mends it, empty where it takes hand work. ``weight`` is
    how much work one of them stands for when takes are sorted by need. ``of_keys`` says that it
    is a matter of how curves are keyed, not of the motion: a file of samples has others.
    """

    name: str
    plural: str
    meaning: str
    remedy: str
    weight: float
    detect: Callable[[Motion], Iterable[Finding]]
    of_keys: bool = False


def severity(size: float, threshold: float, worst: float) -> float:
    """Where a size stands between its threshold (0) and the worst that is told apart (1)."""
    return round(float(np.clip((size - threshold) / (worst - threshold), 0.0, 1.0)), 3)


def spans(mask: Bools, gap: int = 0, shortest: int = 1) -> list[tuple[int, int]]:
    """Runs of true frames, both ends included, gaps of up to ``gap`` frames closed."""
    return tidy(runs(mask), shortest, gap)


class Motion:
    """A clip as detectors look at it."""

    def __init__(self, clip: Clip) -> None:
        self.clip = clip
        self.rate = float(clip.rate)
        self.names = clip.skeleton.names
        self._made: dict[Callable[[Motion], Any], Any] = {}

    def once(self, look: Callable[[Motion], T]) -> T:
        """What a look at this motion gives, however many detectors ask for it."""
        if look not in self._made:
            self._made[look] = look(self)
        return cast(T, self._made[look])

    def frames_in(self, seconds: float, least: int = 1) -> int:
        return max(least, round(seconds * self.rate))

    @cached_property
    def pose(self) -> Pose:
        return posed(self.clip)

    @cached_property
    def local(self) -> Floats:
        """Local rotations ``(F, J, 4)``, neighbours of one sign."""
        return rotation.hemisphere(self.pose.rotation)

    @cached_property
    def steps(self) -> Floats:
        """Turn between frames ``(F - 1, J)``, degrees."""
        return rotation.geodesic_deg(self.local[1:], self.local[:-1])

    @cached_property
    def world(self) -> tuple[Floats, Floats]:
        return self.pose.world(self.clip.skeleton)

    @cached_property
    def values(self) -> dict[TrackId, Floats]:
        """Every channel on every frame."""
        return effective(self.clip, np.arange(self.clip.frames, dtype=np.float64))

    @property
    def body(self) -> Body:
        return self.clip.body

    @cached_property
    def flips(self) -> Flips:
        """Wraps and alternate solutions: two kinds of one look."""
        return continuity_breaks(self.clip)

    @property
    def size(self) -> float:
        """How tall the figure is, as a share of the one that thresholds are stated for."""
        height = self.clip.skeleton.rest_height * self.clip.millimetres
        return height / STATURE_MM if height > 0 else 1.0

    @property
    def up(self) -> int:
        return UP[self.clip.reading.up_axis]

    @cached_property
    def support(self) -> Support:
        return support_of(self.clip)

    @cached_property
    def contacts(self) -> tuple[Contact, ...]:
        return self.support.contacts if self.clip.contacts is None else self.clip.contacts


def paired(
    events: Sequence[tuple[int, float]], longest: int, closes: Callable[[int, int], bool]
) -> list[tuple[int, int, float]]:
    """Jumps ``(frame, size)`` of one joint as spans: out at one, back at a later one.

    ``closes(a, b)`` says whether the jump into frame ``b`` takes back the one into ``a``. A
    jump that nothing takes back is a span of one frame.
    """
    out: list[tuple[int, int, float]] = []
    waiting = list(events)
    while waiting:
        frame, size = waiting.pop(0)
        back = next(
            (k for k, (f, _) in enumerate(waiting) if f - frame <= longest and closes(frame, f)),
            None,
        )
        if back is None:
            out.append((frame, frame, size))
        else:
            end, other = waiting[back]
            del waiting[: back + 1]
            out.append((frame, end - 1, max(size, other)))
    return out
