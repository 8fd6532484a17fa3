"""Handles fitted again to keys that are kept, as hand edits: kept and undone as such."""

from typing import Any

import numpy as np
from documents.store import load_clip
from leancurve.cleaning.refitting import refitted
from leancurve.curves.curve import KeyedCurve
from leancurve.document.base import channel_values
from leancurve.document.clip import Clip
from leancurve.document.scope import Scope
from leancurve.document.track import TrackId
from leancurve.errors import BadInput

from editing.models import Revision
from editing.outcomes import take_of, take_state_of
from editing.recipes import replay


def motion_of(revision: Revision) -> Clip:
    """What the keys of a revision stand for: what its last thinning worked on, else the take."""
    recipe = revision.recipe
    thinned = [k for k, line in enumerate(recipe) if line["operation"] == "thin"]
    if not thinned:
        return load_clip(take_state_of(revision))
    return load_clip(replay(take_of(revision).state, recipe[: thinned[-1]])[-1].after.state)


def refit_edits(revision: Revision, scope: Scope) -> list[dict[str, Any]]:
    """Edits of the keys in scope that bring the curves between them nearer to their motion.

    With keys in the scope just their handles change, else those of all keys of its channels.
    """
    clip, motion = load_clip(revision.state), motion_of(revision)
    if (clip.frames, clip.rate) != (motion.frames, motion.rate):
        raise BadInput("time was changed since the clip was thinned: there is nothing to fit to")
    keys = None if scope.keys is None else {(k[0], k[1], k[2]) for k in scope.keys}
    tracks = [
        t
        for t in scope.resolve(clip)
        if isinstance(clip.curves[t], KeyedCurve) and t in motion.curves
    ]
    values = channel_values(motion, np.arange(motion.frames, dtype=np.float64), tracks)
    out: list[dict[str, Any]] = []
    for track in tracks:
        curve = clip.curves[track]
        assert isinstance(curve, KeyedCurve)
        named = clip.whose(track)
        which = np.array([keys is None or (named, track.name, int(i)) in keys for i in curve.id])
        out += _edits(track, named, curve, refitted(curve, values[track], which))
    return out


def _edits(
    track: TrackId, joint: str, before: KeyedCurve, after: KeyedCurve
) -> list[dict[str, Any]]:
    shape = ("slope_in", "slope_out", "length_in", "length_out")
    changed = np.any([getattr(before, n) != getattr(after, n) for n in shape], axis=0)
    return [
        {
            "owner": track.owner,
            "joint": joint,
            "channel": track.name,
            "id": int(before.id[k]),
            "frame": float(before.time[k]),
            "was": float(before.value[k]),
            "handle": "free",
            **{n: float(getattr(after, n)[k]) for n in shape},
        }
        for k in np.flatnonzero(changed).tolist()
    ]
