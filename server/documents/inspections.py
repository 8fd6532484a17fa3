"""Findings of states: measured once, and kept."""

from collections import Counter
from collections.abc import Iterable
from dataclasses import asdict
from typing import Any

from leancurve.document.clip import Clip
from leancurve.measures.findings import VERSION, find, work_left
from leancurve.progress import Progress, silent

from documents.models import Inspection, State
from documents.store import load_clip


def inspect(state: State, progress: Progress = silent) -> Inspection:
    """The state's findings, from the store where this version of the detectors has looked."""
    kept = Inspection.objects.filter(pk=state.hash, version=VERSION).first()
    if kept is not None:
        return kept
    found = find(load_clip(state), progress=progress)
    return keep(state, [asdict(f) for f in found], work_left(found))


def keep(state: State, findings: list[dict[str, Any]], work: float) -> Inspection:
    """Store what was found in a state, and what it amounts to."""
    inspection, _ = Inspection.objects.update_or_create(
        state=state, defaults={"version": VERSION, "findings": findings, "work": work}
    )
    return inspection


def open_counts(findings: Iterable[dict[str, Any]]) -> dict[str, int]:
    """How many findings of each kind are open."""
    return dict(Counter(f["kind"] for f in findings if not f["accepted"]))


def counts_of(clip: Clip, progress: Progress = silent) -> dict[str, int]:
    """Open findings by kind of a clip that is not stored, as a preview is."""
    return open_counts(asdict(f) for f in find(clip, progress=progress))
