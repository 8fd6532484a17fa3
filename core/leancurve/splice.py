"""A stretch of a curve replaced by another curve."""

from __future__ import annotations

import numpy as np

from leancurve.curve import Curve, Handle, KeyedCurve, SampledCurve, Segment, cut


def dense_keys(curve: SampledCurve) -> KeyedCurve:
    """A sampled curve as keys: one a frame, straight between them."""
    count = len(curve.values)
    third = np.full(count, 1.0 / 3.0)
    step = np.diff(curve.values)
    slope = np.concatenate([step, step[-1:]]) if count > 1 else np.zeros(count)
    return KeyedCurve(
        id=np.arange(count, dtype=np.int64),
        time=np.arange(count, dtype=np.float64),
        value=curve.values.copy(),
        slope_in=np.concatenate([slope[:1], slope[:-1]]),
        slope_out=slope,
        length_in=third,
        length_out=third.copy(),
        handle=np.full(count, Handle.STRAIGHT, dtype=np.uint8),
        segment=np.full(count, Segment.STRAIGHT, dtype=np.uint8),
        flags=np.zeros(count, dtype=np.uint8),
    )


def spliced(before: Curve, inside: KeyedCurve, first: int, last: int, frames: int) -> KeyedCurve:
    """``before`` with its stretch from ``first`` to ``last`` replaced by ``inside``.

    ``inside`` counts its time from ``first``. Outside the stretch the curve keeps its shape; a
    sampled one becomes a key a frame there.
    """
    moved = inside.edited(time=inside.time + first)
    if first == 0 and last == frames - 1:
        return moved
    whole = dense_keys(before) if isinstance(before, SampledCurve) else before
    parts: list[KeyedCurve] = []
    if whole.time[0] < first:
        part = cut(whole, float(whole.time[0]), float(first))
        parts.append(_without(part, -1))
        # The key on the border is the new stretch's; what came in stays as it came.
        moved = _edge(moved, 0, "in", part)
    if whole.time[-1] > last:
        part = cut(whole, float(last), float(whole.time[-1]))
        moved = _edge(moved, -1, "out", part)
        parts += [moved, _without(part, 0)]
    else:
        parts.append(moved)
    columns = {name: np.concatenate([p.columns[name] for p in parts]) for name in moved.columns}
    columns["id"] = np.arange(len(columns["time"]), dtype=np.int64)
    return KeyedCurve(**columns).checked()


def _without(curve: KeyedCurve, index: int) -> KeyedCurve:
    return KeyedCurve(**{n: np.delete(c, index) for n, c in curve.columns.items()})


def _edge(curve: KeyedCurve, index: int, side: str, part: KeyedCurve) -> KeyedCurve:
    """The key on a border with the handle, and the segment after it, of the part beside it."""
    other = -1 if side == "in" else 0
    columns = {n: c.copy() for n, c in curve.columns.items()}
    for name in (f"slope_{side}", f"length_{side}"):
        columns[name][index] = part.columns[name][other]
    if side == "out":
        columns["segment"][index] = part.segment[other]
    return KeyedCurve(**columns)
