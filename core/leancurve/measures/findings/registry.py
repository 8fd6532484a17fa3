"""The one list of kinds, in the order of their lanes: what they mean and what mends them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from leancurve.document.clip import Accepted, Clip
from leancurve.errors import BadInput
from leancurve.measures.findings import (
    calibration,
    dropped,
    flight,
    flips,
    floor,
    gaps,
    gimbal,
    idle,
    jitter,
    keys,
    pops,
    snaps,
    spikes,
    stuck,
    through,
)
from leancurve.measures.findings.base import Finding, Kind, Motion
from leancurve.numbers.spans import shared
from leancurve.progress import Progress, silent

VERSION = 7
"""Rises when any detector changes what it finds: what was kept before is measured anew."""

KINDS: tuple[Kind, ...] = (
    Kind("calibration pose", "calibration poses", "a held pose at an end of the take, not part "
         "of the performance", "trim", 1.0, calibration.detect),
    Kind("gap", "gaps", "frames frozen while the motion went on", "fill", 2.0, gaps.detect),
    Kind("dropped frame", "dropped frames", "the whole body goes two frames' way in one",
         "restore_frames", 2.0, dropped.detect),
    Kind("wrap", "wraps", "a channel a whole turn away, the pose unchanged", "unflip", 1.0,
         flips.detect_wraps),
    Kind("alternate", "alternates", "the other of two equal Euler solutions, the pose unchanged",
         "unflip", 1.0, flips.detect_alternates),
    Kind("snap", "snaps", "the joint's true orientation jumps between two frames", "mend_snaps",
         3.0, snaps.detect),
    Kind("gimbal", "gimbal", "the middle angle near ±90°, where the other two become one",
         "reorder", 0.2, gimbal.detect),
    Kind("spike", "spikes", "a few frames that disagree with those before and after", "despike",
         1.0, spikes.detect),
    Kind("jitter", "jitter", "noise above the motion's own", "smooth", 1.0, jitter.detect),
    Kind("pop", "limb pops", "a knee or an elbow on its wrong side, or locking straight",
         "fill", 2.0, pops.detect),
    Kind("slide", "slides", "a foot moves over the floor while it stands", "plant", 3.0,
         floor.detect_slides),
    Kind("sink", "sinks", "a foot in contact below the floor", "plant", 2.0, floor.detect_sinks),
    Kind("float", "floats", "a foot in contact above the floor", "plant", 2.0,
         floor.detect_floats),
    Kind("through", "through the body", "a hand, a forearm or a foot is inside the trunk or the "
         "head, a foot inside the other leg", "edit_plants", 1.5, through.detect),
    Kind("arc", "arcs", "a flight that does not fall as what is thrown does", "balance", 2.0,
         flight.detect_arcs),
    Kind("spin", "spins", "a flight in which the body turns with nothing to turn on", "balance",
         1.5, flight.detect_spins),
    Kind("key off the frame", "keys off frame", "a key between two frames", "tidy_keys", 0.5,
         keys.detect_off_frame, of_keys=True),
    Kind("doubled key", "doubled keys", "two keys closer than half a frame", "tidy_keys", 0.5,
         keys.detect_doubled, of_keys=True),
    Kind("stuck key", "stuck keys", "a flat key inside one continuous motion: it stops there",
         "flow", 0.3, stuck.detect, of_keys=True),
    Kind("idle", "idle channels", "a channel that never moves", "drop_idle", 0.02, idle.detect,
         of_keys=True),
)  # fmt: skip

_BY_NAME = {kind.name: kind for kind in KINDS}


def kind_named(name: str) -> Kind:
    """The kind of that name; :class:`BadInput` lists the names there are."""
    try:
        return _BY_NAME[name]
    except KeyError:
        raise BadInput(
            f"no kind of finding is named {name!r}; there are {', '.join(_BY_NAME)}"
        ) from None


def find(
    clip: Clip, kinds: Iterable[str] | None = None, progress: Progress = silent
) -> list[Finding]:
    """All findings of a clip, by kind, joint and frame; those that are meant are marked so."""
    motion = Motion(clip)
    wanted = KINDS if kinds is None else [kind_named(k) for k in kinds]
    out: list[Finding] = []
    if clip.frames == 0:
        return out
    for done, kind in enumerate(wanted, start=1):
        found = sorted(kind.detect(motion), key=lambda f: (f.joint, f.first))
        out += [replace(f, accepted=True) if _meant(f, clip.accepted) else f for f in found]
        progress(done / len(wanted))
    return out


def _meant(finding: Finding, accepted: Iterable[Accepted]) -> bool:
    """Whether an acceptance covers a finding: same kind and place, most of its span."""
    for a in accepted:
        if (a.kind, a.joint, a.channel) != (finding.kind, finding.joint, finding.channel):
            continue
        if 2 * shared(a, finding) > finding.last - finding.first + 1:
            return True
    return False


def work_left(findings: Iterable[Finding]) -> float:
    """How much work the open findings stand for: takes are sorted by it."""
    return round(
        sum(kind_named(f.kind).weight * (0.4 + 0.6 * f.severity) for f in findings
            if not f.accepted),
        2,
    )  # fmt: skip
