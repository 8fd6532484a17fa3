"""Numeric answers: a JSON header and an aligned little-endian tail (the safetensors layout)."""

from collections.abc import Mapping
from typing import Any

import numpy as np
import orjson
from django.http import HttpRequest, HttpResponse
from leancurve.curves.curve import Curve
from leancurve.document.base import prop_pose
from leancurve.document.clip import Clip
from leancurve.document.evaluation import VERSION as EVALUATION
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


def immutable(request: HttpRequest, response: HttpResponse) -> HttpResponse:
    """An answer that names a revision never changes, as long as it is evaluated as it is now: the
    browser may keep it where its address says so."""
    if request.GET.get("v") == str(EVALUATION):
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
    turns, points = prop_pose(clip)
    return {"prop_rotation": turns.astype(np.float32), "prop_place": points.astype(np.float32)}


def curve_arrays(clip: Clip, curves: Mapping[TrackId, Curve]) -> dict[str, AnyArray]:
    """Curves by ``owner/joint/channel/column``, float64 as stored."""
    return {
        f"{channel}/{column}": values
        for channel, curve in curves.items()
        for column, values in curve.stored.items()
    }
