"""Every operation on short clips, as digests of the bytes that come out: ``python -m`` prints them.

Run once with compiled kernels and once with ``NUMBA_DISABLE_JIT=1``, the two must say the same.
"""

from __future__ import annotations

import hashlib
import json
import sys
from collections.abc import Iterator
from typing import Any

from documents.packing import packed
from leancurve.demo import TAKES, captured
from leancurve.demo.characters import heron_file
from leancurve.document.clip import Clip
from leancurve.document.scope import Scope
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.time.resample import resampled

from tests.core.test_continuity_of_operations import (
    GIVEN,
    KEYED_ALONE,
    OF_LIMBS,
    OVER_LAYERS,
    inputs_of,
    layered,
    tumbling,
)

WALK: dict[str, dict[str, Any]] = {
    "unflip": {},
    "mend_snaps": {},
    "despike": {},
    "smooth": {"strength": 0.8},
    "mirror": {},
    "travel": {"facing": "chest", "smooth": 0.2},
    "pull": {"part": "left hand", "y": 20.0},
    "mend_limbs": {"over": 0.01},
    "plant": {},
    "bake_plants": {},
    "thin": {"tolerance_deg": 0.5},
    "retarget": {"plant": True},
}
"""One after another on a captured walk, which has a body, contacts and noise."""


def outcomes() -> Iterator[tuple[str, Clip]]:
    """Each operation's clip, under a name."""
    other = tumbling(99)
    for thinned in (False, True):
        clip = tumbling(1)
        if thinned:
            clip = apply_patch(clip, OPERATIONS["thin"].run(clip, {"tolerance_deg": 0.5}))
        for name, kind in OPERATIONS.items():
            if name in OF_LIMBS or (name in KEYED_ALONE and not thinned):
                continue
            over = name in OVER_LAYERS or name == "key_layer"
            base = layered(clip) if over else clip
            inputs = inputs_of(name, base, layered(other) if over else other)
            params = GIVEN.get(name, {})
            if name == "key_layer":
                params = {**params, "layer": "low"}
            patch = kind.run(base, params, Scope(), inputs=inputs)
            yield f"{name}, {'keyed' if thinned else 'sampled'}", apply_patch(base, patch)
    deck = captured(TAKES[2]).clip
    parts = [resampled(deck, first=a, last=a + 80) for a in (300, 350)]
    joined = OPERATIONS["join"].run(parts[0], {}, inputs={"parts": parts[1:]})
    yield "join, of two walks", apply_patch(parts[0], joined)
    walk, target = resampled(deck, first=400, last=430), heron_file()
    for name, params in WALK.items():
        kind = OPERATIONS[name]
        walk = apply_patch(walk, kind.run(walk, params, inputs=dict.fromkeys(kind.inputs, target)))
        yield f"{name}, on a walk", walk


def digests() -> dict[str, str]:
    """What comes out of each, by name: of the document, and of each of its tracks."""
    out = {}
    for name, clip in outcomes():
        document = packed(clip)
        out[name] = hashlib.sha256(document.header.encode() + document.manifest).hexdigest()
    return out


if __name__ == "__main__":
    json.dump(digests(), sys.stdout)
