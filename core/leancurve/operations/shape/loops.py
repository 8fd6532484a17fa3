"""Loops: a span repeated, and a span's end brought to meet its beginning."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, Handle, SampledCurve
from leancurve.curves.insertion import cut, insert_keys
from leancurve.curves.splice import joined
from leancurve.document.carrying import carried_curves
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.moves import Move, point_of
from leancurve.document.parts.registry import PARTS
from leancurve.document.placement import placed_moves
from leancurve.document.prop import PROP
from leancurve.document.root_motion import RootMotion, leading_root, root_motion
from leancurve.document.track import BASE, TrackId, base_track
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.measures.travel import Travel, lap_of, leading, over_floor, travel_of
from leancurve.numbers.arrays import Floats, runs
from leancurve.operations.base import (
    ClipTime,
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    apply_patch,
    counted,
    number,
    silent,
)
from leancurve.operations.calm.trim import trimmed
from leancurve.operations.shaping import change_report


def travels(clip: Clip, channel: TrackId) -> bool:
    """Whether a channel carries the figure over the floor: a root's moves that are not up."""
    up = "xyz"[UP[clip.reading.up_axis]]
    if channel.owner == PROP:
        # What the figure carries goes along, as far as it is carried.
        return channel.name in {f"t{a}" for a in "xyz" if a != up}
    if channel.owner != BASE:
        # What a layer adds is added in each round, and nothing more.
        return False
    return clip.skeleton.parents[channel.joint] < 0 and channel.name in {
        f"t{a}" for a in "xyz" if a != up
    }


class RepeatParams(Params):
    first: int = number(0, "frame", "where the span begins", time="begins", ge=0)
    last: int | None = number(
        None, "frame", "where it ends; the clip's end when absent", time="ends", ge=0
    )
    times: int = number(2, "×", "how often it is played in all", ge=2, le=200)
    offset: Literal["travel", "way", "all", "none"] = Field(
        "travel",
        description="what goes on from where the span ended: travel over the floor, travel and "
        "heading, or every curve",
    )


class Repeat(Operation[RepeatParams]):
    """Play the range several times, one after another; what comes after it moves later.

    The last frame of one round is the first of the next. With ``travel`` the figure walks on
    from where the round ended, with ``way`` it also turns on: along a circle, if it goes along one.
    Otherwise it starts again where it began.
    """

    name = "repeat"
    title = "Repeat a span"
    step = "shape"
    part = "loops"
    scoped = False
    Params: ClassVar[type[RepeatParams]] = RepeatParams

    def apply(
        self, clip: Clip, scope: Scope, params: RepeatParams, progress: Progress = silent
    ) -> Patch:
        end = clip.frames - 1
        first, last = params.first, end if params.last is None else params.last
        if not 0 <= first < last <= end:
            raise BadInput(
                f"repeat: expected a span of frames within 0 to {end}, got {first} to {last}"
            )
        longer = (params.times - 1) * (last - first)
        frames = clip.frames + longer
        curves: dict[TrackId, Curve] = {}
        for done, (channel, curve) in enumerate(clip.curves.items(), start=1):
            every = params.offset == "all" and channel.owner in (BASE, PROP)
            goes = every or (params.offset == "travel" and travels(clip, channel))
            curves[channel] = _repeated(curve, first, last, params.times, goes, clip.frames)
            progress(done / len(clip.curves))
        if params.offset == "way":
            laps = _laps(clip, first, last, params.times, frames)
            curves |= carried_curves(replace(clip.unplanted, curves=curves, frames=frames), laps)
            on = [laps.at(first + k * (last - first)) for k in range(params.times)]
        else:
            step = _step(clip, first, last, params)
            on = [Move(point_of(k * step)) for k in range(params.times)]
        return Patch(
            curves=curves,
            frames=frames,
            **_repeated_parts(clip, first, last, params, on),
            report={"frames_before": clip.frames, "frames_after": frames},
        )

    def time_after(self, time: ClipTime, params: RepeatParams) -> ClipTime:
        """Where frames lie in the first round; what comes after it is later."""
        last = time.frames - 1 if params.last is None else params.last
        late = (params.times - 1) * (last - params.first)
        return time.then(time.frames + late, lambda f: f if f <= last else f + late)

    def told(self, params: Any) -> str:
        first, last = params.get("first", 0), params.get("last")
        to = "end" if last is None else last
        return f"Repeat {first} – {to}, {params.get('times', 2)} times"


def _repeated_parts(
    clip: Clip, first: int, last: int, params: RepeatParams, on: Sequence[Move]
) -> dict[str, Any]:
    """The clip's spans in each round, what has a place in the world as far ``on`` as that is."""
    out = {}
    for part in PARTS:
        if not part.spans or getattr(clip, part.name) is None:
            continue
        copied = [
            item if part.moved is None else part.moved(clip, (item,), on[k])[0]
            for item, k in _copied(part.of(clip), first, last, params)
        ]
        items = sorted(_joined(copied))
        out[part.name] = tuple(items) if part.apart is None else part.apart(items)
    return out


def _laps(clip: Clip, first: int, last: int, times: int, frames: int) -> RootMotion:
    """What carries the scene on in each round, as often as the way has been gone by then."""
    lap = lap_of(travel_of(clip), first, last)
    laps = [lap.times(k) for k in range(times)]
    at = np.clip((np.arange(frames) - first) // (last - first), 0, times - 1)
    by, turn = np.array([x.by for x in laps]), np.array([x.turn for x in laps])
    return over_floor(by[at], turn[at], UP[clip.reading.up_axis])


def _step(clip: Clip, first: int, last: int, params: RepeatParams) -> Floats:
    """How far ``(3,)`` the figure goes on in each round, as its places in the world do."""
    if params.offset == "none":
        return np.zeros(3)
    if params.offset == "travel":
        path = root_motion(clip, (first, last)).path
    else:
        ends = np.array([first, last], dtype=np.float64)
        path = evaluate(clip.below, ends, (leading_root(clip),)).translation[:, 0]
    return placed_moves(clip, path[1] - path[0])


def _copied(
    spans: Sequence[Any], first: int, last: int, params: RepeatParams
) -> Iterator[tuple[Any, int]]:
    """Spans in each round, cut to it, and which round that is; those after the repeated one later,
    those around it longer.

    A span that reaches over a border is in every round what lies within it, joined with what
    lies beyond in the first or the last one.
    """
    period = last - first
    late = (params.times - 1) * period
    for span in spans:
        if span.last < first or span.first > last:
            k = params.times - 1 if span.first > last else 0
            yield replace(span, first=span.first + k * period, last=span.last + k * period), k
        elif span.first <= first and span.last >= last:
            yield replace(span, last=span.last + late), 0
        else:
            for k in range(params.times):
                begin = span.first if k == 0 else max(span.first, first)
                end = span.last if k == params.times - 1 else min(span.last, last)
                yield replace(span, first=begin + k * period, last=end + k * period), k


def _joined(spans: Sequence[Any]) -> list[Any]:
    """Spans of one thing that meet at a seam are one."""
    out: list[Any] = []
    for span in sorted(spans, key=lambda s: (s.first, s.last)):
        before = next(
            (
                k
                for k, other in enumerate(out)
                if replace(other, first=0, last=0) == replace(span, first=0, last=0)
                and other.last == span.first
                and other.first < other.last
                and span.first < span.last
            ),
            None,
        )
        if before is None:
            out.append(span)
        else:
            out[before] = replace(out[before], last=span.last)
    return out


def _repeated(curve: Curve, first: int, last: int, times: int, on: bool, frames: int) -> Curve:
    period = last - first
    ends = curve.at(np.array([first, last], dtype=np.float64))
    rise = float(ends[1] - ends[0]) if on else 0.0
    if isinstance(curve, SampledCurve):
        rounds = [curve.values[first:last] + k * rise for k in range(times)]
        tail = curve.values[last:] + (times - 1) * rise
        return SampledCurve(np.concatenate([curve.values[:first], *rounds, tail]))
    end = float(frames - 1)
    whole = cut(curve, min(0.0, curve.time[0]), max(end, curve.time[-1]))
    meets = abs(ends[1] - ends[0] - rise) < 1e-9
    lap = cut(whole, first, last if meets else last - 1)
    parts = [cut(whole, whole.time[0], first if first else whole.time[0])] if first else []
    for k in range(times):
        # The last round goes to its own end; an open one steps over a frame, as samples would.
        part = cut(whole, first, last) if k == times - 1 else lap
        parts.append(part.edited(time=part.time + k * period, value=part.value + k * rise))
    if last < whole.time[-1]:
        rest = cut(whole, last, whole.time[-1])
        late, higher = (times - 1) * period, (times - 1) * rise
        parts.append(rest.edited(time=rest.time + late, value=rest.value + higher))
    return replace(joined(parts), extend=curve.extend)


class CloseLoopParams(Params):
    spread: int = number(20, "frames", "over how many frames before the end the change is spread",
                         ge=1)  # fmt: skip
    travel: bool = Field(
        True, description="let the root motion over the floor stay as it is: a walk goes on"
    )
    heading: bool = Field(
        True,
        description="let the heading stay as it is too: a walk along a circle goes on along it",
        json_schema_extra={"when": {"travel": [True]}},
    )


class CloseLoop(Operation[CloseLoopParams]):
    """Bring the end of the frames to their beginning, in value and slope: the loop closes.

    The change grows over the last ``spread`` frames; all before them stays. Travel over the floor
    and heading meet in slope only, so that the figure walks on.
    """

    name = "close_loop"
    title = "Close the loop"
    step = "shape"
    part = "loops"
    ranged = True
    version = 2
    Params: ClassVar[type[CloseLoopParams]] = CloseLoopParams

    def apply(
        self, clip: Clip, scope: Scope, params: CloseLoopParams, progress: Progress = silent
    ) -> Patch:
        spans = runs(scope.mask(clip))
        if len(spans) > 1:
            raise BadInput(f"close_loop: a loop is one span of frames; these are {len(spans)}")
        if not spans or spans[0][1] - spans[0][0] < 3:
            raise BadInput("close_loop: a loop needs at least four frames")
        first, last = spans[0]
        if params.spread > last - first - 1:
            raise BadInput(
                f"spread: the loop of frames {first} to {last} leaves at most {last - first - 1}"
            )
        chosen = scope.resolve(clip)
        turning = params.travel and params.heading and _turns_on(clip, chosen)
        along = _Along(clip, first, last, params.spread) if turning else None
        below = clip if along is None else along.still
        curves: dict[TrackId, Curve] = {}
        meeting: list[TrackId] = []
        for channel in chosen:
            walks = along is None and params.travel and travels(clip, channel)
            curves[channel] = _closed(below.curves[channel], first, last, params.spread, walks)
            if not walks:
                meeting.append(channel)
        closed = below.with_curves(curves)
        gaps: dict[str, float] = {}
        for name, state in (("before", below), ("after", closed)):
            gaps[f"gap_{name}_deg"], gaps[f"gap_{name}_mm"] = _gaps(state, meeting, first, last)
        if along is not None:
            curves |= along.led_again(closed)
        return Patch(curves=curves, report={**change_report(clip, curves), **gaps})

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """Headings came back to where they were once."""
        return {**params, "heading": False} if version < 2 else dict(params)

    def told(self, params: Any) -> str:
        return f"Close the loop over {counted(params.get('spread', 20), 'frame')}"


def _turns_on(clip: Clip, chosen: Sequence[TrackId]) -> bool:
    """Whether all channels of the leading root are to be closed, so that it can be led."""
    root = leading_root(clip)
    own = {base_track(root, name) for name in clip.layout[root]}
    whole = len(clip.order(root)) == 3 and {"tx", "ty", "tz"} <= set(clip.layout[root])
    return whole and own <= set(chosen)


class _Along:
    """A span whose figure goes its way: ``still`` is the clip with it kept in place there, to be
    closed, and then led along again so that both ends are gone through alike."""

    def __init__(self, clip: Clip, first: int, last: int, spread: int) -> None:
        self.clip, self.first, self.last, self.spread = clip, first, last, spread
        self.up = UP[clip.reading.up_axis]
        self.own = travel_of(clip)
        path, angle = self.own.path.copy(), self.own.angle.copy()
        path[first : last + 1], angle[first : last + 1] = path[first], angle[first]
        self.at_first = Travel(path, angle)
        self.still = clip.with_curves(
            carried_curves(clip, leading(self.own, self.at_first, self.up))
        )

    def led_again(self, closed: Clip) -> dict[TrackId, Curve]:
        """The curves of roots and props of the closed clip, on its way again: within the spread
        alone."""
        first, last, begin = self.first, self.last, self.last - self.spread
        path, angle = self.own.path.copy(), self.own.angle.copy()
        over = slice(begin, last + 1)
        turn = angle[last] - angle[first]
        step = (angle[first + 1] - angle[first]) - (angle[last] - angle[last - 1])
        angle[over] += _meeting(self.spread, 0.0, step)
        ahead = np.exp(1j * turn) * (path[first + 1] - path[first])
        path[over] += _meeting(self.spread, 0.0, ahead - (path[last] - path[last - 1]))
        made = carried_curves(closed, leading(self.at_first, Travel(path, angle), self.up))
        led = {t for t, c in self.still.curves.items() if c is not self.clip.curves[t]}
        times = np.arange(self.clip.frames, dtype=np.float64)
        out: dict[TrackId, Curve] = {}
        for track in sorted({*made, *led}):
            values = self.clip.curves[track].at(times).copy()
            values[over] = made.get(track, closed.curves[track]).at(times)[over]
            out[track] = SampledCurve(values)
        return out


def _gaps(clip: Clip, channels: list[TrackId], first: int, last: int) -> tuple[float, float]:
    """How far the ends of channels are apart at most: degrees of turns, mm of moves."""
    at = np.array([first, last], dtype=np.float64)
    gaps = [(c.turns, abs(float(np.diff(clip.curves[c].at(at))[0]))) for c in channels]
    degrees = max((gap for turns, gap in gaps if turns), default=0.0)
    return degrees, max((gap for turns, gap in gaps if not turns), default=0.0) * clip.millimetres


def _meeting(spread: int, gap: float, step: complex) -> Any:
    """The cubic ``(spread + 1,)`` that leads values by a gap, its last step what the steps on both
    sides of the seam differ by."""
    u = np.arange(spread + 1) / spread
    w = 1.0 - 1.0 / spread
    rest = step - gap * (1.0 - (3 * w**2 - 2 * w**3))
    end = rest / -(w**3 - w**2) if spread > 1 else 0.0
    return gap * (3 * u**2 - 2 * u**3) + end * (u**3 - u**2)


def _closed(curve: Curve, first: int, last: int, spread: int, walks: bool) -> Curve:
    """The curve with a cubic added over the spread: slopes meet, and values unless it walks."""
    begin = last - spread
    if isinstance(curve, SampledCurve):
        v = curve.values
        gap = 0.0 if walks else float(v[first] - v[last])
        step = float((v[first + 1] - v[first]) - (v[last] - v[last - 1]))
        out = v.copy()
        out[begin : last + 1] += _meeting(spread, gap, step)
        return SampledCurve(out)
    low, high = float(curve.time[0]), float(curve.time[-1])
    wanted = [first, begin, last] + ([last + 1] if high > last else [])
    times = [float(t) for t in wanted if low <= t <= high or t in (first, last)]
    curve = insert_keys(curve, times, (min(first, low), max(last, high)))
    a, b = (int(np.argmin(np.abs(curve.time - t))) for t in (first, last))
    gap = 0.0 if walks else float(curve.value[a] - curve.value[b])
    steeper = float(curve.slope_out[a] - curve.slope_in[b]) * spread
    at = (curve.time >= begin) & (curve.time <= last)
    u = np.clip((curve.time - begin) / spread, 0.0, 1.0)
    added = gap * (3 * u**2 - 2 * u**3) + steeper * (u**3 - u**2)
    slope: Floats = (gap * (6 * u - 6 * u**2) + steeper * (3 * u**2 - 2 * u)) / spread
    after = at & (curve.time < last)
    return curve.edited(
        value=np.where(at, curve.value + added, curve.value),
        slope_in=np.where(at, curve.slope_in + slope, curve.slope_in),
        slope_out=np.where(after, curve.slope_out + slope, curve.slope_out),
        handle=np.where(at, np.uint8(Handle.FREE), curve.handle),
    )


class BeginLoopParams(Params):
    frame: int = number(0, "frame", "the frame that it begins at", ge=0)


class BeginLoop(Operation[BeginLoopParams]):
    """Begin a loop at another of its frames: at a heel's contact, for one. What lay before it comes
    after the end, on the way that the loop leads.

    The clip is one closed cycle, and as long afterwards.
    """

    name = "begin_loop"
    title = "Begin the loop elsewhere"
    step = "shape"
    part = "loops"
    scoped = False
    Params: ClassVar[type[BeginLoopParams]] = BeginLoopParams

    def apply(
        self, clip: Clip, scope: Scope, params: BeginLoopParams, progress: Progress = silent
    ) -> Patch:
        period = clip.frames - 1
        if not 0 <= params.frame <= period:
            raise BadInput(f"begin_loop: expected a frame within 0 to {max(period, 0)}")
        if params.frame in (0, period):
            return Patch(frames=clip.frames, report={"from_frame": params.frame})
        twice = Repeat().run(clip, {"times": 2, "offset": "way"}, progress=progress)
        first = params.frame
        return trimmed(
            apply_patch(clip, twice), first, first + period, report={"from_frame": first}
        )

    def time_after(self, time: ClipTime, params: BeginLoopParams) -> ClipTime:
        first, period = params.frame, time.frames - 1
        return time.then(time.frames, lambda f: f - first if f >= first else f - first + period)

    def told(self, params: Any) -> str:
        return f"Begin the loop at {params.get('frame', 0)}"
