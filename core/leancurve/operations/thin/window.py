"""Thinning of some channels over some frames: tolerances over time, shared times, budgets."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from leancurve.cleaning.contacts import AIRBORNE, contacts_of
from leancurve.cleaning.thinning import (
    FEWEST,
    LARGE,
    PROMINENCE,
    USUAL,
    Channel,
    borders,
    find_landmarks,
    fit_channel,
    fit_handles,
    fit_shared,
    key_poses,
    least_keys,
    least_shared,
    truly_broken,
)
from leancurve.curves.curve import KeyedCurve, evaluate_keyed
from leancurve.curves.splice import spliced
from leancurve.document.clip import Clip
from leancurve.document.evaluation import effective, evaluate
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.figure.body import lever_arms
from leancurve.measures.drift import end_points
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, Ints
from leancurve.numbers.spans import meet
from leancurve.operations.base import (
    Progress,
    silent,
)
from leancurve.operations.thin.params import ThinParams
from leancurve.progress import part_of

MOST_TRIES = 6


@dataclass
class Window:
    """Thinning of some channels over some frames, both ends included."""

    clip: Clip
    channels: Sequence[TrackId]
    params: ThinParams
    first: int
    last: int
    bound: int = 0
    times: int = 0

    def __post_init__(self) -> None:
        clip = self.clip
        at = np.arange(self.first, self.last + 1, dtype=np.float64)
        values = effective(clip, at, self.channels)
        self.values = {c: np.ascontiguousarray(values[c]) for c in self.channels}
        self.body = clip.body
        self.of_group = {j: g for g, joints in self.body.groups.items() for j in joints}
        self.levers = lever_arms(clip.skeleton) * clip.millimetres
        self.scale: dict[int, float] = dict.fromkeys({c.joint for c in self.channels}, 1.0)
        self.effort = FEWEST if self.params.search == "fewest keys" else USUAL
        self.share = self._shares()
        self.fixed = self._fixed()

    def _inside(self, frame: int) -> int:
        return min(max(frame, self.first), self.last) - self.first

    def _shares(self) -> dict[int, Floats]:
        """Per joint how much of the tolerance is left over time ``(F,)``; 1 where not given."""
        count = self.last - self.first + 1
        out: dict[int, Floats] = {}

        def tighten(first: int, last: int, shares: Mapping[int, float]) -> None:
            if last < self.first or first > self.last:
                return
            for joint, share in shares.items():
                if share >= 1.0:
                    continue
                over = out.setdefault(joint, np.ones(count))
                part = over[self._inside(first) : self._inside(last) + 1]
                np.minimum(part, share, out=part)

        if self.params.contacts and self.params.planted < 1:
            for contact in contacts_of(self.clip):
                side, _, limb = contact.limb.partition(" ")
                if limb in ("heel", "toe", "foot"):
                    tighten(contact.first, contact.last, self._planted(f"{side} leg"))
        for span in self.params.tighter:
            if span.group not in self.body.groups:
                raise BadInput(
                    f"tighter: this body has no {span.group!r}; it has "
                    f"{', '.join(self.body.groups)}"
                )
            group = self.body.groups[span.group]
            tighten(span.first, span.last, dict.fromkeys(group, span.share))
        return out

    def _planted(self, group: str) -> dict[int, float]:
        """The share that each joint of a leg has while its foot is planted.

        What counts is the foot's way: the joint with the longest lever has the given share, and
        the others one that moves the foot as far by the same measure.
        """
        joints = [j for j in self.body.groups.get(group, ()) if j in self.scale]
        longest = max((float(self.levers[j]) for j in joints), default=0.0)
        if self.params.measure == "ends" or longest <= 0.0:
            return dict.fromkeys(joints, self.params.planted)
        share = self.params.planted * longest
        return {j: min(1.0, share / max(float(self.levers[j]), 1e-9)) for j in joints}

    def _fixed(self) -> dict[str, set[int]]:
        """Frames that are keys in any case, by group of the body; "" for all."""
        out: dict[str, set[int]] = defaultdict(set)
        for frame in self.params.also:
            if self.first <= frame <= self.last:
                out[""].add(frame - self.first)
        if self.params.contacts:
            for contact in contacts_of(self.clip):
                if contact.limb == AIRBORNE:
                    continue
                side, _, limb = contact.limb.partition(" ")
                group = f"{side} arm" if limb == "hand" else f"{side} leg"
                for frame in (contact.first, contact.last):
                    if self.first < frame < self.last:
                        out[group].add(frame - self.first)
        return out

    def fixed_for(self, joint: int) -> Ints:
        frames = self.fixed[""] | self.fixed[self.of_group.get(joint, "")]
        return np.array(sorted(frames), dtype=np.int64)

    def own_keys(self, track: TrackId, channel: Channel) -> Ints:
        """Frames that are keys of a channel in any case: those that were asked for, and where a
        contact begins or ends those at which the channel breaks."""
        asked = np.array(sorted(self.fixed[""]), dtype=np.int64)
        group = self.of_group.get(track.joint, "")
        if not group or not self.fixed[group]:
            return asked
        touching = np.array(sorted(self.fixed[group]), dtype=np.int64)
        rate = float(self.clip.rate)
        return np.union1d(asked, truly_broken(channel.values, touching, channel.tightest, rate))

    def quiet(self, channel: TrackId) -> bool:
        """Whether a channel moves too little for a change of support to show in it: less than
        an extreme's least prominence."""
        least = 1.0 if channel.turns else 0.0
        return bool(np.ptp(self.values[channel]) < max(4.0 * self.tolerance(channel), least))

    def tolerance(self, channel: TrackId) -> float:
        """The channel's tolerance in its own unit, as the measure and the search have it."""
        params, scale = self.params, self.scale[channel.joint]
        if params.measure == "ends":
            if not channel.turns:
                return scale * params.ends_mm / self.clip.millimetres
            lever = max(float(self.levers[channel.joint]), 1.0)
            return float(min(45.0, scale * np.degrees(params.ends_mm / lever)))
        if channel.turns:
            return scale * params.tolerance_deg
        return scale * params.tolerance_mm / self.clip.millimetres

    def channel(self, channel: TrackId) -> Channel:
        values, tolerance = self.values[channel], self.tolerance(channel)
        plain = Channel(values, tolerance, borders(values), self.share.get(channel.joint))
        if self.quiet(channel):
            # As close as its tightest span asks for all along costs less than keys at its ends.
            plain = Channel(values, plain.tightest, plain.marks)
        if not self.params.landmarks:
            return plain
        # A hold rests on one value for all of its length: within the tightest part's tolerance.
        least = 1.0 if channel.turns else 0.0
        marks = find_landmarks(
            values,
            plain.tightest,
            float(self.clip.rate),
            least=least,
            prominence=LARGE if self.params.extremes == "large" else PROMINENCE,
        )
        return replace(plain, marks=marks)

    def groups(self) -> list[list[TrackId]]:
        """Channels that share key times."""
        layout = self.params.layout
        if layout == "channel":
            return [[c] for c in self.channels]
        out: dict[object, list[TrackId]] = defaultdict(list)
        for c in self.channels:
            key: object = "all"
            if layout == "joint":
                key = c.joint
            elif layout == "part":
                key = self.of_group.get(c.joint, "rest")
            out[key].append(c)
        return list(out.values())

    def fitted(
        self, progress: Progress, joints: set[int] | None = None
    ) -> dict[TrackId, KeyedCurve]:
        """Curves at the present scale; of some joints only, if they are named."""
        out: dict[TrackId, KeyedCurve] = {}
        groups = self.groups()
        self.times = 0
        for done, group in enumerate(groups, start=1):
            if joints is not None and not any(c.joint in joints for c in group):
                continue
            if len(group) == 1:
                c = group[0]
                channel = self.channel(c)
                if channel.still:
                    out[c] = fit_channel(channel.at_rest)
                else:
                    out[c] = fit_channel(channel, self.own_keys(c, channel), self.effort)
            else:
                fixed = np.unique(np.concatenate([self.fixed_for(c.joint) for c in group]))
                within = part_of(progress, (done - 1) / len(groups), 1 / len(groups))
                curves, times = fit_shared([self.channel(c) for c in group], fixed, within)
                out |= dict(zip(group, curves, strict=True))
                if self.params.layout == "pose":
                    self.times = len(times)
            progress(done / len(groups))
        return out

    def least(self) -> int:
        """The bound: the fewest keys of this layout at the present scale."""
        total = 0
        for group in self.groups():
            channels = [self.channel_plain(c) for c in group]
            if len(group) == 1:
                total += least_keys(channels[0].values, channels[0].tolerance)
            else:
                still = sum(c.still for c in channels)
                total += least_shared(channels) * (len(group) - still) + still
        return total

    def channel_plain(self, channel: TrackId) -> Channel:
        values = self.values[channel]
        return Channel(values, self.tolerance(channel), borders(values))

    def solve(self, progress: Progress) -> dict[TrackId, KeyedCurve]:
        """Curves that hold what was asked for, and the bound of their layout."""
        params = self.params
        if params.keep is not None:
            curves = self._refitted(progress)
        elif params.poses is not None:
            if params.layout != "pose":
                raise BadInput("poses: counts key poses, which only the layout 'pose' has")
            curves = self._posed(progress)
        elif params.most_keys is not None:
            curves = self._within_budget(progress)
        elif params.measure == "joint":
            curves = self._within_joints(progress)
        elif params.measure == "ends":
            curves = self._within_ends(progress)
        else:
            curves = self.fitted(part_of(progress, 0.0, 0.8))
        if params.paths:
            curves = self._on_paths(curves, progress)
        self.bound = self.least()
        return curves

    def _refitted(self, progress: Progress) -> dict[TrackId, KeyedCurve]:
        """The keys that were named, and no others: handles alone are fitted."""
        keep = self.params.keep or {}
        names = self.clip.skeleton.names
        out: dict[TrackId, KeyedCurve] = {}
        for done, c in enumerate(self.channels, start=1):
            kept = np.array(keep.get(f"{names[c.joint]}.{c.name}", ()), dtype=np.float64)
            frames = np.unique(np.round(kept)).astype(np.int64)
            frames = frames[(frames >= self.first) & (frames <= self.last)] - self.first
            out[c] = fit_handles(self.channel_plain(c), frames)
            progress(done / len(self.channels))
        return out

    def _posed(self, progress: Progress) -> dict[TrackId, KeyedCurve]:
        """So many key poses, where they serve all channels best; handles are fitted to them."""
        wanted = self.params.poses or 2
        contacts = set().union(*self.fixed.values()) - self.fixed[""]
        chosen = self.fixed[""] | (contacts if 2 * len(contacts) <= wanted else set())
        channels = [self.channel(c) for c in self.channels]
        times, scale = key_poses(
            channels,
            wanted,
            np.array(sorted(chosen), dtype=np.int64),
            np.array(sorted(contacts), dtype=np.int64),
        )
        self.scale = dict.fromkeys(self.scale, scale)
        self.times = len(times)
        out: dict[TrackId, KeyedCurve] = {}
        still = np.empty(0, dtype=np.int64)
        for done, (c, channel) in enumerate(zip(self.channels, channels, strict=True), start=1):
            out[c] = fit_handles(channel, still if channel.still else times)
            progress(0.4 + 0.5 * done / len(channels))
        return out

    def _clip_with(self, curves: Mapping[TrackId, KeyedCurve]) -> Clip:
        whole = {
            c: spliced(self.clip.curves[c], curve, self.first, self.last, self.clip.frames)
            for c, curve in curves.items()
        }
        return self.clip.with_curves(whole)

    def _times(self) -> Floats:
        return np.arange(self.first, self.last + 1, dtype=np.float64)

    def _within_joints(self, progress: Progress) -> dict[TrackId, KeyedCurve]:
        """Each joint's rotation certified: scaled until its geodesic error is within."""
        limit = self.params.tolerance_deg
        # Three channels' errors hardly ever add up; a third of the tolerance always holds.
        self.scale = dict.fromkeys(self.scale, 0.62)
        truth = evaluate(self.clip, self._times()).rotation
        curves = self.fitted(part_of(progress, 0.0, 0.5))
        for tried in range(MOST_TRIES):
            ours = evaluate(self._clip_with(curves), self._times()).rotation
            error = rotation.geodesic_deg(ours, truth).max(axis=0)
            over = {j for j in self.scale if error[j] > limit}
            if not over:
                break
            for j in over:
                less = 0.96 * self.scale[j] * limit / float(error[j])
                self.scale[j] = 1 / 3 if tried >= MOST_TRIES - 2 else max(1 / 3, less)
            curves |= self.fitted(part_of(progress, 0.5 + 0.08 * tried, 0.08), over)
        return curves

    def _end_error(self, curves: Mapping[TrackId, KeyedCurve]) -> Floats:
        """Distance ``(F, E)`` of the ends from where they are in the clip, millimetres."""
        times = self._times()
        changed = self._clip_with(curves)
        _, ours = end_points(changed, evaluate(changed, times))
        _, theirs = end_points(self.clip, evaluate(self.clip, times))
        return np.asarray(np.linalg.norm(ours - theirs, axis=-1) * self.clip.millimetres)

    def _within_ends(self, progress: Progress) -> dict[TrackId, KeyedCurve]:
        """Tolerances by lever arm, scaled together until the ends are within."""
        limit = self.params.ends_mm
        scale, best = 0.4, None
        for tried in range(MOST_TRIES):
            self.scale = dict.fromkeys(self.scale, scale)
            curves = self.fitted(part_of(progress, tried / MOST_TRIES, 1 / MOST_TRIES))
            error = float(self._end_error(curves).max())
            if error <= limit:
                best = (scale, curves)
                if error > 0.8 * limit or tried >= 3:
                    break
            elif best is not None and tried >= 3:
                break
            scale *= float(np.clip(0.92 * limit / max(error, 1e-9), 0.2, 2.0))
        while best is None:
            scale *= 0.6
            self.scale = dict.fromkeys(self.scale, scale)
            curves = self.fitted(silent)
            if float(self._end_error(curves).max()) <= limit:
                best = (scale, curves)
        self.scale = dict.fromkeys(self.scale, best[0])
        return best[1]

    def _within_budget(self, progress: Progress) -> dict[TrackId, KeyedCurve]:
        """The tightest tolerance found whose keys are not more than asked for."""
        wanted = self.params.most_keys or 2
        low, high, best = 1e-3, 400.0, None
        scale, count = 1.0, 0
        for tried in range(10):
            self.scale = dict.fromkeys(self.scale, scale)
            curves = self.fitted(part_of(progress, tried / 10, 0.1))
            count = sum(c.key_count for c in curves.values())
            if count <= wanted:
                high, best = scale, (scale, curves)
                if count >= 0.93 * wanted:
                    break
            else:
                low = scale
            # Aimed a little below what is asked for: at it, a step from just above leads nowhere.
            step = float(np.clip((count / (0.97 * wanted)) ** 2.0, 0.2, 6.0))
            scale = scale * step if low < scale * step < high else float(np.sqrt(low * high))
            if high / low < 1.03:
                break
        if best is None:
            raise BadInput(
                f"most_keys: {wanted} keys are not enough for {len(self.channels)} channels with "
                f"these landmarks and contacts as keys; at least {count} are needed"
            )
        self.scale = dict.fromkeys(self.scale, best[0])
        return best[1]

    def _on_paths(
        self, curves: dict[TrackId, KeyedCurve], progress: Progress
    ) -> dict[TrackId, KeyedCurve]:
        """Chains tightened over their spans until hands and feet keep to their paths."""
        skeleton = self.clip.skeleton
        for path in self.params.paths:
            end = self.body.find(path.limb)
            first, last = self._inside(path.first), self._inside(path.last)
            if end is None or not meet(path, self):
                continue
            chain = set(skeleton.chain(end)) & set(self.scale)
            times = self._times()[first : last + 1]
            truth = evaluate(self.clip, times).world(skeleton)[1][:, end]
            for tried in range(MOST_TRIES + 2):
                changed = self._clip_with(curves)
                ours = evaluate(changed, times).world(skeleton)[1][:, end]
                error = np.linalg.norm(ours - truth, axis=1).max() * self.clip.millimetres
                if error <= path.mm:
                    break
                share = float(np.clip(0.85 * path.mm / error, 0.05, 0.9))
                for joint in chain:
                    over = self.share.setdefault(joint, np.ones(self.last - self.first + 1))
                    over[first : last + 1] *= share
                curves |= self.fitted(silent, chain)
                progress(min(0.9, 0.1 * tried))
        return curves

    def worst(self, curves: Mapping[TrackId, KeyedCurve], turns: bool) -> float:
        """Largest error of any rotation, or position, channel by a separate evaluation."""
        frames = np.arange(self.last - self.first + 1, dtype=np.float64)
        chosen = {c: curve for c, curve in curves.items() if c.turns == turns}
        if not chosen:
            return 0.0
        fitted = evaluate_keyed(list(chosen.values()), frames)
        return float(np.max(np.abs(fitted - [self.values[c] for c in chosen])))
