"""Numeric answers: a JSON header and an aligned little-endian tail (the safetensors layout)."""

import hashlib
from collections.abc import Mapping
from typing import Any

import numpy as np
import orjson
from django.http import HttpRequest, HttpResponse
from editing.models import Revision
from leancurve.curves.curve import Curve
from leancurve.document.clip import Clip
from leancurve.document.evaluation import VERSION as EVALUATION
from leancurve.document.placement import placed_props
from leancurve.document.track import TrackId
from leancurve.figure.pose import Pose
from leancurve.numbers.arrays import AnyArray
from safetensors.numpy import save


def message(arrays: Mapping[str, AnyArray], about: Mapping[str, Any]) -> HttpResponse:
    """Arrays by name; ``about`` travels in the header as one JSON text, ``about``."""
    body = save(
        {name: np.ascontiguousarray(a) for name, a in arrays.items()},
        metadata={"about": orjson.dumps(about).decode()},
    )
    return HttpResponse(body, content_type="application/octet-stream")


def mark_of(revision: Revision) -> str:
    """What all numbers of a revision follow from, in a few letters: ids mean something else once a
    backup has been restored, this does not."""
    parts = [revision.state_id, str(revision.take_state_id), *revision.lines]
    return hashlib.sha256(" ".join(parts).encode()).hexdigest()[:20]


def immutable(
    request: HttpRequest, response: HttpResponse, revision: Revision, since: Revision | None = None
) -> HttpResponse:
    """The answer on a revision, told from another one where ``since`` is: it never changes, as long
    as documents are evaluated as they are now. The browser may keep it where the address says all
    of that."""
    marks = [mark_of(r) for r in (revision, since) if r is not None]
    if request.GET.get("v") == ".".join([str(EVALUATION), *marks]):
        response["Cache-Control"] = "private, max-age=31536000, immutable"
    else:
        response["Cache-Control"] = "private, no-store"
    return response


def pose_arrays(clip: Clip, pose: Pose, joints: list[int]) -> dict[str, AnyArray]:
    """Local rotations of joints ``(F, J, 4)`` and translations of those that move, float32.

    ``pose`` is of these joints and no others.
    """
    moves = [any(c[0] == "t" for c in clip.layout[j]) for j in joints]
    moving = np.flatnonzero(moves)
    return {
        "joints": np.array(joints, dtype=np.int32),
        "rotation": pose.rotation.astype(np.float32),
        "moving": np.array([joints[k] for k in moving], dtype=np.int32),
        "translation": pose.translation[:, moving].astype(np.float32),
    }


def prop_arrays(clip: Clip) -> dict[str, AnyArray]:
    """World rotations ``(F, P, 4)`` and positions ``(F, P, 3)`` of props, float32; none of none."""
    if not clip.props:
        return {}
    turns, points = placed_props(clip)
    return {"prop_rotation": turns.astype(np.float32), "prop_place": points.astype(np.float32)}


def curve_arrays(clip: Clip, curves: Mapping[TrackId, Curve]) -> dict[str, AnyArray]:
    """Curves by ``owner/joint/channel/column``, float64 as stored."""
    return {
        f"{channel}/{column}": values
        for channel, curve in curves.items()
        for column, values in curve.stored.items()
    }


def layers_named(solo: str) -> list[int]:
    """Ids of layers as an address names them: ``3,5``; none of what is no id."""
    return [int(part) for part in solo.split(",") if part.isdecimal() and len(part) <= 9]
