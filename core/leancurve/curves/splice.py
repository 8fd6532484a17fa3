"""A stretch of a curve replaced by another curve."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from leancurve.curves.curve import (
    HELD,
    Curve,
    Handle,
    KeyedCurve,
    KeyFlag,
    SampledCurve,
    Segment,
    made_anew,
)
from leancurve.curves.insertion import cut, spanning
from leancurve.numbers.arrays import Ints


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
    moved = made_anew(inside.edited(time=inside.time + first))
    if first == 0 and last == frames - 1:
        return moved
    if isinstance(before, SampledCurve):
        whole = made_anew(dense_keys(before))
    else:
        # What is repeated outside of the keys must not be what is new.
        whole = spanning(before, 0.0, frames - 1.0) if before.extend != HELD else before
        moved = replace(moved, extend=whole.extend)
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
    columns["id"] = distinct(columns["id"])
    return moved.edited(**columns).checked()


def distinct(ids: Ints) -> Ints:
    """Ids ``(K,)`` of which later ones that stand twice are new ones."""
    _, first = np.unique(ids, return_index=True)
    twice = np.ones(len(ids), dtype=np.bool_)
    twice[first] = False
    out = ids.copy()
    out[twice] = int(ids.max()) + 1 + np.arange(np.count_nonzero(twice))
    return out


def joined(parts: Sequence[KeyedCurve]) -> KeyedCurve:
    """Curves one after another as one. Where one ends as the next begins they share a key: it
    comes in as the one and goes out as the other, with the later one's value. Keys keep their
    ids; where two parts have the same, the later ones get new ids."""
    out = parts[0]
    for part in parts[1:]:
        if out.time[-1] >= part.time[0]:
            part = _edge(part, 0, "in", out)
            if part.slope_in[0] != part.slope_out[0]:
                part = _broken(part, 0)
            out = _without(out, -1)
        columns = {n: np.concatenate([c, part.columns[n]]) for n, c in out.columns.items()}
        columns["id"] = distinct(columns["id"])
        out = out.edited(**columns)
    return out.checked()


def _broken(curve: KeyedCurve, index: int) -> KeyedCurve:
    handle, flags = curve.handle.copy(), curve.flags.copy()
    handle[index] = Handle.FREE
    flags[index] |= KeyFlag.BROKEN
    return curve.edited(handle=handle, flags=flags)


def _without(curve: KeyedCurve, index: int) -> KeyedCurve:
    return curve.edited(**{n: np.delete(c, index) for n, c in curve.columns.items()})


def _edge(curve: KeyedCurve, index: int, side: str, part: KeyedCurve) -> KeyedCurve:
    """The key on a border with the handle, and the segment after it, of the part beside it."""
    other = -1 if side == "in" else 0
    columns = {n: c.copy() for n, c in curve.columns.items()}
    for name in (f"slope_{side}", f"length_{side}"):
        columns[name][index] = part.columns[name][other]
    if side == "out":
        for name in ("segment", "swings", "decay"):
            columns[name][index] = part.columns[name][other]
    return curve.edited(**columns)
