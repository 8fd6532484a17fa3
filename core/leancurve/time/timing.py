"""Curves under a change of time: stretched, closed over a gap, opened for new frames."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from leancurve.curves.curve import (
    HELD,
    LONGEST,
    ON_FRAME,
    SAME_TIME,
    Curve,
    Handle,
    KeyedCurve,
    KeyFlag,
    SampledCurve,
    Segment,
    frame_values,
    keyed,
    runs_back,
)
from leancurve.curves.insertion import cut, insert_keys, spanning, with_muted
from leancurve.curves.riding import retimed_keys, riders
from leancurve.curves.splice import joined
from leancurve.document.base import channel_values
from leancurve.document.clip import Clip
from leancurve.document.rotations import angles_near, quaternions
from leancurve.document.track import TrackId, base_track
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.numbers.cubic import hermite
from leancurve.time.warp import Warp

ROUNDS = 14
ZERO = np.zeros(())
REACH = 5.0
"""Frames over which the speeds at both sides of new frames die out."""


def warped_clip(
    clip: Clip,
    warp: Warp,
    frames: int,
    tolerance_deg: float,
    tolerance_mm: float,
    whole_frames: bool = True,
) -> tuple[dict[TrackId, Curve], int]:
    """The clip's curves on the new time of ``frames`` frames, and how many keys that took.

    Sampled ones are sampled anew, rotations by slerp. The path of keyed ones stays to within
    the tolerances, keys being added where it asks for them.
    """
    curves: dict[TrackId, Curve] = {}
    sampled = [c for c, curve in clip.curves.items() if isinstance(curve, SampledCurve)]
    if sampled:
        times = np.clip(warp.back(np.arange(frames, dtype=np.float64)), 0, max(clip.frames - 1, 0))
        whole = np.round(times)
        times = np.where(np.abs(times - whole) < 1e-9, whole, times)
        curves |= {
            c: SampledCurve(np.ascontiguousarray(v))
            for c, v in channel_values(clip, times, sampled).items()
        }
    made = 0
    for channel, curve in clip.curves.items():
        if isinstance(curve, KeyedCurve):
            most = tolerance_deg if channel.turns else tolerance_mm / clip.millimetres
            reaching = _reaching(curve, clip.frames)
            curves[channel] = warped = warped_keys(reaching, warp, most, whole_frames)
            made += warped.key_count - curve.key_count
    return curves, made


def _reaching(curve: KeyedCurve, frames: int) -> KeyedCurve:
    """The curve with keys as far as the clip goes, where it goes on otherwise than held."""
    return curve if curve.extend == HELD else spanning(curve, 0.0, frames - 1.0)


def warped_keys(
    curve: KeyedCurve, warp: Warp, tolerance: float, whole_frames: bool = True
) -> KeyedCurve:
    """A keyed curve on the new time, on frames its path unchanged to within ``tolerance``.

    Keys within the pins come to lie on whole frames, but those that ride; where the path asks
    for more of them, they are set on frames.
    """
    if curve.unmuted is not curve:
        late = curve.edited(time=warp.to(curve.time))
        return with_muted(warped_keys(curve.unmuted, warp, tolerance, whole_frames), late)
    if np.ptp(curve.value) == 0 and not np.any(curve.slope_in) and not np.any(curve.slope_out):
        # What never moves needs no keys at pins.
        still = curve.edited(time=warp.to(curve.time))
        return _snapped(still, _Path(curve, warp)).checked() if whole_frames else still
    low, high = float(curve.time[0]), float(curve.time[-1])
    curve = insert_keys(curve, [t for t in warp.kinks.tolist() if low < t < high])
    late = _warped_keys(curve, warp)
    if late.key_count < 2 or not (whole_frames or warp.smooth):
        return late.checked()
    return _on_path(late, _Path(curve, warp), tolerance, whole_frames).checked()


H = 1e-3
"""Frames to both sides over which a curve's slope is measured."""


class _Path:
    """What a curve is on the whole frames of the new time within the pins, and its slopes."""

    def __init__(self, curve: KeyedCurve, warp: Warp) -> None:
        self.first = int(np.ceil(warp.target[0]))
        self.frames, source, rate = warp.frames
        self.value = curve.at(source)
        self.slope = (curve.at(source + H) - curve.at(source - H)) / (2 * H) / rate

    def inside(self, time: Floats) -> Bools:
        """Times that lie between the pins at the ends."""
        return np.asarray((time > self.first) & (time < self.frames[-1]))

    def at(self, frames: Floats) -> tuple[Floats, Floats]:
        """Values and slopes on whole frames; those at the nearest end outside."""
        k = np.clip(frames.astype(np.int64) - self.first, 0, len(self.frames) - 1)
        return self.value[k], self.slope[k]


def _on_path(curve: KeyedCurve, path: _Path, tolerance: float, whole_frames: bool) -> KeyedCurve:
    """The curve with its keys between the pins on whole frames, led along a path."""
    curve = _turned_forward(curve)
    if whole_frames:
        curve = _snapped(curve, path)
    seen = (path.frames > curve.time[0]) & (path.frames < curve.time[-1])
    frames, goal = path.frames[seen], path.value[seen]
    for _ in range(ROUNDS):
        off = np.where(np.isin(frames, curve.time), 0.0, np.abs(curve.at(frames) - goal))
        bad = off > tolerance
        if not np.any(bad):
            break
        # In each segment that leaves the path, a key on the frame where it is furthest off.
        k = np.searchsorted(curve.time, frames, side="right")
        worst = [
            float(frames[k == n][int(np.argmax(off[k == n]))]) for n in np.unique(k[bad]).tolist()
        ]
        curve = _with_keys(curve, path, np.array(worst))
    return _turned_forward(curve)


def _turned_forward(curve: KeyedCurve) -> KeyedCurve:
    """The curve with plain handles in segments that the bent time would make run back."""
    long = np.maximum(curve.length_out[:-1], curve.length_in[1:]) > LONGEST
    return _plain_handles(curve, long | runs_back(curve))


def _plain_handles(curve: KeyedCurve, segments: Bools) -> KeyedCurve:
    """Handles of one third in segments ``(K - 1,)``."""
    third = 1.0 / 3.0
    return curve.edited(
        length_out=np.where(np.append(segments, False), third, curve.length_out),
        length_in=np.where(np.append(False, segments), third, curve.length_in),
    )


def _snapped(curve: KeyedCurve, path: _Path) -> KeyedCurve:
    """Keys between the pins put on whole frames, each on the path there.

    What begins or ends a hold goes to the frame after, where the path has stepped as well; what
    begins one keeps its value. Of two keys that meet one is left.
    """
    steps = curve.segment >= Segment.HOLD
    stepped = np.append(False, steps[:-1])
    time = np.where(steps | stepped, np.ceil(curve.time - ON_FRAME), np.round(curve.time))
    # Before its first key and after its last one a curve stays at their values.
    time[0], time[-1] = np.floor(curve.time[0] + ON_FRAME), np.ceil(curve.time[-1] - ON_FRAME)
    mine = path.inside(curve.time) & ~riders(curve)
    off = mine & (np.abs(curve.time - time) > ON_FRAME)
    led = off & ~steps
    time = np.maximum.accumulate(np.where(mine, time, curve.time))
    value, slope = path.at(time)
    moved = curve.edited(
        time=time,
        value=np.where(led, value, curve.value),
        slope_in=np.where(led, slope, curve.slope_in),
        slope_out=np.where(led, slope, curve.slope_out),
        handle=np.where(led, np.uint8(Handle.FREE), curve.handle),
        flags=np.where(led, curve.flags & ~np.uint8(KeyFlag.BROKEN), curve.flags),
    )
    # A key that stood on its frame stays; of those that came there the first, but for one whose
    # hold is over within the frame.
    order = np.lexsort((steps, off, time))
    twice = np.append(False, np.diff(time[order]) < SAME_TIME)
    keep = np.ones(curve.key_count, dtype=np.bool_)
    keep[order[twice]] = False
    return moved.only(keep)


def _with_keys(curve: KeyedCurve, path: _Path, times: Floats) -> KeyedCurve:
    """Keys added at times, on the path, with its slopes."""
    at = np.searchsorted(curve.time, times)
    columns = {n: np.insert(c, at, c[at - 1]) for n, c in curve.columns.items()}
    new = at + np.arange(len(at))
    columns["id"][new] = int(curve.id.max()) + 1 + np.arange(len(at))
    columns["time"][new] = times
    columns["value"][new], slope = path.at(times)
    columns["slope_in"][new] = columns["slope_out"][new] = slope
    columns["handle"][new], columns["flags"][new] = Handle.FREE, 0
    columns["segment"][new] = Segment.CURVE
    touched = np.zeros(len(columns["time"]) - 1, dtype=np.bool_)
    touched[new - 1] = True
    touched[np.minimum(new, len(touched) - 1)] = True
    return _plain_handles(curve.edited(**columns), touched)


def _warped_keys(early: KeyedCurve, warp: Warp) -> KeyedCurve:
    """Keys on the new time. Their handles reach as far in values as before: only time is bent."""
    late = early.edited(time=warp.to(early.time))
    rate_in, rate_out = warp.rate(early.time, -1), warp.rate(early.time, 1)
    segment = early.segment.copy()
    slope_in, slope_out = early.slope_in.copy(), early.slope_out.copy()
    length_in, length_out = early.length_in.copy(), early.length_out.copy()
    if warp.smooth and early.key_count > 1:
        # A straight line through a time that bends is a curve.
        bends = np.abs(rate_in[1:] - rate_out[:-1]) > 1e-12
        middle = warp.rate((early.time[:-1] + early.time[1:]) / 2, 1)
        bends |= np.abs(middle - rate_out[:-1]) > 1e-12
        line = np.flatnonzero(bends & (early.segment[:-1] == Segment.STRAIGHT))
        step = np.diff(early.value) / np.diff(early.time)
        segment[line] = Segment.CURVE
        slope_out[line] = slope_in[line + 1] = step[line]
        length_out[line] = length_in[line + 1] = 1.0 / 3.0
    if early.key_count > 1:
        squeeze = np.diff(early.time) / np.diff(late.time)
        length_out[:-1] *= rate_out[:-1] * squeeze
        length_in[1:] *= rate_in[1:] * squeeze
    slope_in, slope_out = slope_in / rate_in, slope_out / rate_out
    parted = (np.abs(slope_in - slope_out) > 1e-9 * (1 + np.abs(slope_in))) & (
        early.slope_in == early.slope_out
    )
    own = np.isin(early.handle, (Handle.EASED, Handle.FLOWING, Handle.STRAIGHT))
    bent = parted | (own & warp.smooth & ((rate_in != 1.0) | (rate_out != 1.0)))
    return late.edited(
        segment=segment,
        slope_in=np.where(parted, slope_in, np.where(early.slope_in == early.slope_out,
                                                     slope_out, slope_in)),
        slope_out=slope_out,
        length_in=length_in,
        length_out=length_out,
        handle=np.where(bent, np.uint8(Handle.FREE), early.handle),
        flags=np.where(parted, early.flags | np.uint8(KeyFlag.BROKEN), early.flags),
    )  # fmt: skip


def closed(clip: Clip, first: int, last: int, blend: int) -> dict[TrackId, Curve]:
    """The clip's curves without frames ``first`` to ``last``, both inside the clip.

    Over ``blend`` frames about the seam what differs between its two sides, in place and in
    speed, is shared out: half of it before, half of it after.
    """
    seam = _Seam(clip, first, last, blend)
    return {channel: seam.over(channel) for channel in clip.curves}


class _Seam:
    """What comes before a gap and what comes after it, led to one another."""

    def __init__(self, clip: Clip, first: int, last: int, blend: int) -> None:
        self.clip, self.first, self.last = clip, first, last
        self.reach = (
            min(blend / 2, first - 0.5),
            min(blend / 2, clip.frames - 1 - last - 0.5),
        )
        self.blends = blend > 0
        self.facing = self._facing()

    def _facing(self) -> dict[TrackId, tuple[float, float]]:
        """Per turning channel a factor and an offset that write the later side's angles as the
        solution nearest to the earlier side's."""
        out: dict[TrackId, tuple[float, float]] = {}
        for joint, order in enumerate(self.clip.orders):
            channels = [base_track(joint, f"r{a.lower()}") for a in order]
            if len(channels) != 3:
                continue
            left, right = (
                np.array([float(self.clip.curves[c].at(np.array([t]))[0]) for c in channels])
                for t in (self.first - 1.0, self.last + 1.0)
            )
            near = angles_near(quaternions(right, order), order, left)
            turned = (near - right) / 360.0
            if np.allclose(turned, np.round(turned), atol=1e-6):
                signs, offsets = np.ones(3), 360.0 * np.round(turned)
            else:
                signs = np.array([1.0, -1.0, 1.0])
                offsets = near - signs * right
            if np.any(np.round(offsets)):
                pairs = zip(signs.tolist(), offsets.tolist(), strict=True)
                out |= dict(zip(channels, pairs, strict=True))
        return out

    def over(self, channel: TrackId) -> Curve:
        curve = self.clip.curves[channel]
        factor, offset = self.facing.get(channel, (1.0, 0.0))
        if isinstance(curve, SampledCurve):
            left, right = curve.values[: self.first], curve.values[self.last + 1 :]
            values = np.concatenate([left, factor * right + offset])
            t = np.arange(len(values), dtype=np.float64)
            return SampledCurve(values + self._correction(values, t)[0])
        gone = self.last - self.first + 1
        if curve.key_count == 1:
            late = curve.time - np.where(curve.time > self.last, gone, 0)
            return curve.edited(time=np.minimum(late, np.where(curve.time < self.first, late,
                                                               self.first)))  # fmt: skip
        before, after = float(self.first - 1), float(self.last + 1)
        left_part = cut(curve, min(float(curve.time[0]), before), before)
        right_part = cut(curve, after, max(float(curve.time[-1]), after))
        right_part = right_part.edited(
            time=right_part.time - gone,
            value=factor * right_part.value + offset,
            slope_in=factor * right_part.slope_in,
            slope_out=factor * right_part.slope_out,
        )
        last = np.arange(left_part.key_count) == left_part.key_count - 1
        left_part = left_part.edited(
            segment=np.where(last, np.uint8(Segment.STRAIGHT), left_part.segment)
        )
        whole = joined([left_part, right_part])
        return self._led(whole) if self.blends else whole

    def _led(self, curve: KeyedCurve) -> KeyedCurve:
        middle = self.first - 0.5
        edges = [middle - self.reach[0], middle + self.reach[1]]
        low, high = float(curve.time[0]), float(curve.time[-1])
        curve = insert_keys(curve, [t for t in edges if low < t < high])
        frames = np.arange(self.clip.frames - (self.last - self.first + 1), dtype=np.float64)
        by, rate = self._correction(curve.at(frames), curve.time)
        bent = by != 0.0
        return curve.edited(
            value=curve.value + by,
            slope_in=curve.slope_in + rate,
            slope_out=curve.slope_out + rate,
            handle=np.where(bent, np.uint8(Handle.FREE), curve.handle),
        )

    def _correction(self, values: Floats, t: Floats) -> tuple[Floats, Floats]:
        """What leads both sides to one place and one speed in the middle of the seam, at times;
        and how fast it changes. ``values`` are those on frames."""
        by, rate = np.zeros(len(t)), np.zeros(len(t))
        if not self.blends:
            return by, rate
        at = self.first
        speed_left = values[at - 1] - values[at - 2] if at > 1 else 0.0
        speed_right = values[at + 1] - values[at] if at + 1 < len(values) else 0.0
        gap = (values[at] - speed_right / 2) - (values[at - 1] + speed_left / 2)
        faster = speed_right - speed_left
        away = t - (at - 0.5)
        for sign, reach in ((-1.0, self.reach[0]), (1.0, self.reach[1])):
            inside = (sign * away > 0) & (sign * away < reach)
            if reach <= 0 or not np.any(inside):
                continue
            u = sign * away[inside] / reach
            half, slope = -sign * gap / 2, -faster / 2 * reach
            by[inside] = hermite(u, np.array(half), np.array(slope), ZERO, ZERO)
            rate[inside] = sign * (6 * u * (u - 1) * half + (1 - u) * (1 - 3 * u) * slope) / reach
        return by, rate


def opened(clip: Clip, after: int, count: int, hold: bool) -> dict[TrackId, Curve]:
    """The clip's curves with ``count`` new frames after frame ``after``: its pose held, or a
    bridge to the next one with the speeds of both sides."""
    sampled = [c for c, curve in clip.curves.items() if isinstance(curve, SampledCurve)]
    filled = {} if hold or after >= clip.frames - 1 else _bridges(clip, sampled, after, count)
    curves: dict[TrackId, Curve] = {}
    for channel, curve in clip.curves.items():
        if isinstance(curve, SampledCurve):
            new = filled.get(channel, np.full(count, curve.values[after]))
            parts = [curve.values[: after + 1], new, curve.values[after + 1 :]]
            curves[channel] = SampledCurve(np.concatenate(parts))
        else:
            curves[channel] = _opened_keys(curve, float(after), count, hold)
    return curves


def _opened_keys(curve: KeyedCurve, after: float, count: int, hold: bool) -> KeyedCurve:
    if curve.key_count == 1 or not curve.time[0] <= after < curve.time[-1]:
        return curve.edited(time=np.where(curve.time > after, curve.time + count, curve.time))
    start = cut(curve, float(curve.time[0]), after)
    rest = cut(curve, after if hold else after + 1, max(float(curve.time[-1]), after + 1))
    rest = rest.edited(time=rest.time + count)
    return joined([_leaving(start, count, hold), _entered(rest, count, hold)])


def _leaving(curve: KeyedCurve, count: int, hold: bool) -> KeyedCurve:
    """The last key before new frames: into a hold, or a bridge at its own speed."""
    at = np.arange(curve.key_count) == curve.key_count - 1
    kind = Segment.STRAIGHT if hold else Segment.CURVE
    speed = curve.slope_in[-1] if curve.key_count > 1 else curve.slope_out[-1]
    return curve.edited(
        segment=np.where(at, np.uint8(kind), curve.segment),
        slope_out=np.where(at, 0.0 if hold else speed, curve.slope_out),
        length_out=np.where(at, _length(count), curve.length_out),
        handle=np.where(at, np.uint8(Handle.FREE), curve.handle),
        flags=np.where(at & hold, curve.flags | np.uint8(KeyFlag.BROKEN), curve.flags),
    )


def _entered(curve: KeyedCurve, count: int, hold: bool) -> KeyedCurve:
    at = np.arange(curve.key_count) == 0
    return curve.edited(
        slope_in=np.where(at, 0.0 if hold else curve.slope_out, curve.slope_in),
        length_in=np.where(at, _length(count), curve.length_in),
        handle=np.where(at, np.uint8(Handle.FREE), curve.handle),
        flags=np.where(at & hold, curve.flags | np.uint8(KeyFlag.BROKEN), curve.flags),
    )


def _length(count: int) -> float:
    """A handle's share of a stretch with new frames: speeds die out, and nothing overshoots far."""
    return min(1.0 / 3.0, REACH / (count + 1))


def _bridges(
    clip: Clip, sampled: Sequence[TrackId], after: int, count: int
) -> Mapping[TrackId, Floats]:
    """Values of sampled channels on ``count`` frames between ``after`` and the next one."""
    out: dict[TrackId, Floats] = {}
    inside = set(sampled)
    around = np.clip(np.arange(after - 1, after + 3), 0, clip.frames - 1)
    for joint, order in enumerate(clip.orders):
        turns = [base_track(joint, f"r{a.lower()}") for a in order]
        if len(turns) == 3 and inside.issuperset(turns):
            angles = np.stack([frame_values(clip.curves[c])[around] for c in turns], axis=1)
            q = rotation.hemisphere(quaternions(angles, order))
            back = rotation.conjugate(q[1])
            path = _bridge(rotation.log(rotation.multiply(back, q)), count)
            turned = rotation.multiply(q[1], rotation.exp(path))
            share = (np.arange(count) + 1.0)[:, None] / (count + 1)
            near = angles_near(turned, order, angles[1] + share * (angles[2] - angles[1]))
            out |= {c: near[:, k] for k, c in enumerate(turns)}
    for channel in sampled:
        if channel not in out:
            values = frame_values(clip.curves[channel])[around]
            out[channel] = _bridge(values[:, None], count)[:, 0]
    return out


def _bridge(around: Floats, count: int) -> Floats:
    """From the second to the third of four points ``(4, n)``, with their speeds: ``(count, n)``."""
    t = np.arange(1.0, count + 1)
    third = np.full(2, _length(count))
    out = np.empty((count, around.shape[1]))
    for n in range(around.shape[1]):
        before, start, end, beyond = around[:, n]
        bridge = keyed([0, count + 1.0], [start, end], [start - before, beyond - end])
        out[:, n] = bridge.edited(length_in=third, length_out=third).at(t)
    return out


def shifted(curve: KeyedCurve, frame: float, by: float) -> tuple[KeyedCurve, int]:
    """Keys from ``frame`` on moved by ``by`` frames, and how many stood in their way and went."""
    late = curve.time >= frame - 1e-9
    gone: Bools = ~late & (curve.time >= frame + by - 1e-9)
    if np.all(gone | ~curve.live):
        # A curve keeps a key: it would have no value without.
        gone[np.flatnonzero(curve.live)[-1]] = False
    kept = curve.only(~gone)
    late = late[~gone]
    time = np.where(late, kept.time + by, np.minimum(kept.time, frame + min(by, 0.0)))
    moved = retimed_keys(kept, time)
    assert moved is not None
    return moved, int(np.count_nonzero(gone))
