"""What a revision's recipe did, line by line: measured once a line, and kept with its memo."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from django.conf import settings
from documents.caches import Cache
from documents.store import load_clip
from leancurve.document.evaluation import posed
from leancurve.measures.account import (
    COSTS,
    Account,
    Entry,
    LineDrift,
    Mended,
    Place,
    Shift,
    account,
    measured,
)
from leancurve.measures.drift import baseline_with_ends, end_points
from leancurve.numbers.arrays import Floats
from leancurve.operations import operation_named
from leancurve.recipe import counted_as, time_moved

from editing.baseline import baseline_of
from editing.models import Memo, Revision
from editing.outcomes import take_of
from editing.recipes import Line, Step, replay, title, trail

VERSION = 1
"""Rises when the same line would be measured otherwise: what was kept is measured anew."""

_shifts: Cache[Shift] = Cache(
    settings.SHIFT_CACHE_BYTES, lambda s: s.turns.nbytes + s.moves.nbytes + 2000
)
"""What mends and costs did on each frame, by the name of the way there."""


@dataclass(frozen=True)
class Told:
    """A revision's account, and each of its lines' own drift."""

    whole: Account
    lines: list[tuple[Line, LineDrift]]


def account_of(revision: Revision) -> Told:
    """What each line did by itself, and what they did taken together by kind."""
    take = take_of(revision).state
    recipe = revision.recipe
    keys = trail(take, recipe)
    steps = replay(take, recipe)
    memos = Memo.objects.only("key", "drift").in_bulk(keys)
    entries: list[Entry] = []
    for k, key in enumerate(keys):
        entries.append(_entry(steps, k, key, memos.get(key)))
    lines = [(s.line, e.drift) for s, e in zip(steps, entries, strict=True)]
    return Told(account(entries), lines)


def _entry(steps: Sequence[Step], k: int, key: str, memo: Memo | None) -> Entry:
    step = steps[k]
    before = steps[k - 1].state if k else None
    kind = counted_as(step.line)
    if before is None or step.line.get("aside") or before.hash == step.state.hash:
        return Entry(LineDrift(kind), None, 0)
    moved, frames = None, 0
    if operation_named(step.line["operation"]).retimes:
        moved = time_moved(step.line, step.report, load_clip(before))
        frames = load_clip(step.state).frames
    kept = _kept(memo)
    shift = _shifts.get(key)
    counts = kind in (*COSTS, "mend")
    if kept is not None and (shift is not None or not counts or not kept.deg.size + kept.mm.size):
        return Entry(kept, shift, frames, moved)
    drift, fresh = measured(kind, load_clip(before), load_clip(step.state))
    if memo is not None and kept is None:
        memo.drift = {"version": VERSION, **asdict(drift)}
        memo.save(update_fields=["drift"])
    if not counts:
        return Entry(drift, None, frames, moved)
    if fresh is not None:
        _shifts.put(key, fresh)
    return Entry(drift, fresh, frames, moved)


def _kept(memo: Memo | None) -> LineDrift | None:
    if memo is None or memo.drift is None or memo.drift.get("version") != VERSION:
        return None
    given: dict[str, Any] = memo.drift
    mended = tuple(Mended(**{**m, "joints": tuple(m["joints"])}) for m in given["mended"])
    return LineDrift(given["kind"], Place(**given["deg"]), Place(**given["mm"]), mended)


def as_told(told: Told) -> dict[str, Any]:
    """An account as plain values; a place has a size, an RMS, a name and a frame."""
    whole = told.whole
    return {
        "cost_deg": asdict(whole.cost_deg),
        "cost_mm": asdict(whole.cost_mm),
        "mended": [asdict(m) for m in whole.mended],
        "lines": [
            {"line_id": line["line_id"], "told": title(line), **asdict(drift)}
            for line, drift in told.lines
        ],
    }


def summary_of(told: Told) -> dict[str, Any]:
    """An account in the few figures of a table: what it cost, how much was mended."""
    mended = told.whole.mended
    return {
        "cost_deg": told.whole.cost_deg.size,
        "cost_mm": told.whole.cost_mm.size,
        "mended": len(mended),
        "mended_deg": max((m.deg for m in mended), default=0.0),
        "mended_mm": max((m.mm for m in mended), default=0.0),
    }


def lanes_of(revision: Revision) -> tuple[Floats, Floats]:
    """Per frame the farthest that any end was moved, mm: by mends, and by all the rest."""
    clip, take = load_clip(revision.state), baseline_of(revision)
    names, ours = end_points(clip, posed(clip))
    _, theirs = end_points(baseline_with_ends(take, names), posed(take))
    moves = ours * clip.millimetres - theirs * take.millimetres
    mends = account_of(revision).whole.mended_moves
    if mends is None or mends.shape != moves.shape:
        mends = np.zeros_like(moves)
    return _farthest(mends), _farthest(moves - mends)


def _farthest(moves: Floats) -> Floats:
    return np.asarray(np.linalg.norm(moves, axis=-1).max(axis=1, initial=0.0))
