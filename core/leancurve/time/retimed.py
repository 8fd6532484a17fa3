"""What has a time moves when time is changed: contacts, acceptances, marks, plants."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeAlias

from leancurve.document.clip import Clip
from leancurve.document.parts.base import Retimed
from leancurve.document.parts.registry import retimed_parts

Moved: TypeAlias = Callable[[float], float]


def moved_parts(
    clip: Clip, moved: Moved, frames: int, ended: Moved | None = None
) -> dict[str, Any]:
    """The clip's spans under a change of time to so many ``frames``, as parts of a patch.

    ``ended`` is where last frames come to lie, if elsewhere than first ones: at a gap.
    """
    return retimed_parts(clip, Retimed(moved, ended or moved, frames))
