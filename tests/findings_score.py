"""Findings against seeded truth: who found what, by one stated rule of overlap.

A seeded defect is found if a finding of its kind on its joint (any joint for the whole body)
overlaps its frames widened by two frames; spans of over ten frames must share at least a third
of the longer one. A finding is true if it answers to a seeded defect by the same rule.
Precision and recall are over all takes and seeds together.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field

from leancurve.demo.defects import Capture, Defect
from leancurve.measures.findings import Finding, find

WIDENED = 2
SHARED = 1 / 3
SEEDED = (
    *("calibration pose", "gap", "wrap", "alternate", "snap", "spike", "jitter", "pop", "slide"),
    *("sink", "idle"),
)


def answers(finding: Finding, defect: Defect) -> bool:
    if finding.kind != defect.kind or finding.joint != defect.joint:
        return False
    if defect.channel and finding.channel and finding.channel != defect.channel:
        return False
    if defect.kind in ("wrap", "alternate"):
        # The flip is where the channel leaves and where it returns, not the frames between.
        return any(abs(finding.first - edge) <= WIDENED for edge in (defect.first, defect.last + 1))
    shared = min(finding.last, defect.last + WIDENED) - max(finding.first, defect.first - WIDENED)
    longer = max(finding.last - finding.first, defect.last - defect.first) + 1
    return shared >= 0 and (longer <= 10 or (shared + 1) / longer >= SHARED)


def _follows(finding: Finding, capture: Capture) -> bool:
    """A wrap inside a seeded alternate span: its angles were brought into ±180° and jump there."""
    return finding.kind == "wrap" and any(
        d.kind == "alternate"
        and d.joint == finding.joint
        and d.first <= finding.first <= d.last + 1
        for d in capture.truth
    )


@dataclass
class Score:
    """Counts of one kind: seeded and found, reported and true."""

    seeded: int = 0
    found: int = 0
    reported: int = 0
    true: int = 0
    missed: list[tuple[str, Defect]] = field(default_factory=list)
    false: list[tuple[str, Finding]] = field(default_factory=list)

    @property
    def recall(self) -> float:
        return self.found / self.seeded if self.seeded else 1.0

    @property
    def precision(self) -> float:
        return self.true / self.reported if self.reported else 1.0


def score(captures: Iterable[tuple[str, Capture]]) -> dict[str, Score]:
    """Scores by kind over named captures."""
    out = {kind: Score() for kind in SEEDED}
    for name, capture in captures:
        findings = find(capture.clip)
        for kind, total in out.items():
            mine = [f for f in findings if f.kind == kind]
            truth = [d for d in capture.truth if d.kind == kind]
            hit = [d for d in truth if any(answers(f, d) for f in mine)]
            right = [f for f in mine if any(answers(f, d) for d in truth) or _follows(f, capture)]
            total.seeded += len(truth)
            total.found += len(hit)
            total.reported += len(mine)
            total.true += len(right)
            total.missed += [(name, d) for d in truth if d not in hit]
            total.false += [(name, f) for f in mine if f not in right]
    return out


def counts(findings: Iterable[Finding]) -> dict[str, int]:
    return dict(Counter(f.kind for f in findings))
