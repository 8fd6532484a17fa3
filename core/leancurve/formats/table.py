"""Channels as a table: CSV (RFC 4180), a row a frame. It holds no skeleton and is read onto one."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from fractions import Fraction

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.clip import Clip
from leancurve.document.evaluation import effective
from leancurve.document.limits import require_room
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput, short
from leancurve.formats.bvh import Take
from leancurve.formats.times import told_by
from leancurve.numbers.arrays import Floats

FRAME, SECONDS = "frame", "seconds"
LENGTHS = {"m": 1.0, "cm": 0.01, "mm": 0.001}
DEGREES = "deg"
COLUMN = re.compile(r"(?P<joint>.+) (?P<channel>[tr][xyz]) \((?P<unit>[^()]+)\)")


def write_table(clip: Clip) -> bytes:
    """What plays, a value of each channel on each frame: the frame, its time in seconds, then
    ``Hips tx (cm)`` or ``Hips rz (deg)``, joints and channels in the clip's order. Props are not in
    it."""
    unit = unit_of(clip)
    head = [FRAME, SECONDS]
    for joint, names in enumerate(clip.layout):
        for name in names:
            kind = unit if name[0] == "t" else DEGREES
            head.append(f"{clip.skeleton.names[joint]} {name} ({kind})")
    values = effective(clip, np.arange(clip.frames, dtype=np.float64), channels=clip.channels)
    columns = [values[track].tolist() for track in clip.channels]
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(head)
    rate = float(clip.rate)
    for frame in range(clip.frames):
        # The shortest form that reads back as the same double.
        writer.writerow([frame, repr(frame / rate), *(repr(c[frame]) for c in columns)])
    return out.getvalue().encode()


def unit_of(clip: Clip) -> str:
    """What a clip's lengths are in, as a column says it."""
    metres = clip.reading.metres_per_unit
    return next((u for u, m in LENGTHS.items() if abs(m / metres - 1.0) < 1e-9), f"{metres:.9g} m")


def read_table(data: bytes, like: Clip, name: str = "take") -> Take:
    """A table's channels on the skeleton of another clip, which is read as that one was. A joint
    without columns stands as it rests; :class:`BadInput` says what is wrong, and in which line."""
    text, _, body = data.removeprefix(b"\xef\xbb\xbf").partition(b"\n")
    try:
        (head,) = csv.reader([text.decode().rstrip("\r")], strict=True)
    except (UnicodeDecodeError, csv.Error, ValueError):
        raise BadInput("expected the names of columns", line=1) from None
    tracks, factors = _columns(head, like)
    rows = _rows(body, len(head))
    require_room(len(like.skeleton), len(tracks), len(rows), "the table")
    rate = _rate(head, rows, like.rate)
    curves: dict[TrackId, Curve] = {}
    layout: list[list[str]] = [[] for _ in like.skeleton.names]
    for k, track in enumerate(tracks):
        if track is not None:
            curves[track] = SampledCurve(np.ascontiguousarray(factors[k] * rows[:, k]))
            layout[track.joint].append(track.name)
    clip = Clip(
        like.skeleton, tuple(map(tuple, layout)), curves, rate, len(rows), like.reading, name
    )
    standing = sum(not names for names in layout)
    notes = [f"read onto the skeleton of {like.name}; rate {float(rate):g} a second"]
    if standing:
        notes.append(f"{standing} joints have no columns and stand as they rest")
    return Take(clip, tuple(notes))


def _columns(head: Sequence[str], like: Clip) -> tuple[list[TrackId | None], list[float]]:
    """The track of each column, None of the frame and of its time, and by what its numbers are
    multiplied to be in the clip's unit."""
    tracks: list[TrackId | None] = []
    factors: list[float] = []
    at = {name: k for k, name in enumerate(like.skeleton.names)}
    for cell in head:
        if cell in (FRAME, SECONDS):
            tracks.append(None)
            factors.append(1.0)
            continue
        read = COLUMN.fullmatch(cell)
        if read is None:
            raise BadInput(f"{short(repr(cell))} is no column such as 'Hips rz (deg)'", line=1)
        joint, channel, unit = read["joint"], read["channel"], read["unit"]
        if joint not in at:
            raise BadInput(f"{short(joint)} is no joint of {short(like.name)}", line=1)
        track = base_track(at[joint], channel)
        if track in tracks:
            raise BadInput(f"{short(cell)} is there twice", line=1)
        tracks.append(track)
        factors.append(_factor(channel, unit, like.reading.metres_per_unit))
    if all(track is None for track in tracks):
        raise BadInput("it has no column of a channel", line=1)
    return tracks, factors


def _factor(channel: str, unit: str, metres: float) -> float:
    if channel[0] == "r":
        if unit != DEGREES:
            raise BadInput(f"expected turns in {DEGREES}, found {short(unit, 20)}", line=1)
        return 1.0
    number, _, word = unit.rpartition(" ")
    size = LENGTHS.get(word)
    try:
        size = None if size is None else size * (float(number) if number else 1.0)
    except ValueError:
        size = None
    if size is None or not 1e-9 < size < 1e9:
        raise BadInput(f"{short(unit, 20)!r} is no unit of length", line=1)
    # A unit that is the clip's own leaves numbers to the bit.
    return 1.0 if abs(size / metres - 1.0) < 1e-9 else size / metres


def _rows(body: bytes, columns: int) -> Floats:
    from leancurve.numbers.kernels.text import scan_numbers  # numba loads late

    values, read, bad = scan_numbers(body.replace(b",", b" "))
    if bad:
        _, line, token = bad[0]
        found = short(token.decode("latin-1"), 30)
        raise BadInput(f"expected a finite number, found {found!r}", line=2 + line)
    counts = np.diff(read[:, 1], prepend=0)
    odd = np.flatnonzero(counts != columns)
    if len(odd):
        line = 2 + int(read[odd[0], 0])
        raise BadInput(f"expected {columns:,} numbers, found {counts[odd[0]]:,}", line=line)
    if not len(values):
        raise BadInput("it has no rows")
    return np.asarray(values.reshape(-1, columns))


def _rate(head: Sequence[str], rows: Floats, usual: Fraction) -> Fraction:
    if FRAME in head:
        frames = rows[:, list(head).index(FRAME)]
        wrong = np.flatnonzero(np.diff(frames) != 1.0)
        if len(wrong):
            raise BadInput(f"frame {frames[wrong[0] + 1]:g} does not follow {frames[wrong[0]]:g}")
    if SECONDS not in head or len(rows) < 2:
        return usual
    seconds = rows[:, list(head).index(SECONDS)]
    if np.any(np.diff(seconds) <= 0.0):
        raise BadInput("its times do not rise")
    return told_by([seconds]).rate
