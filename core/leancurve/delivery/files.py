"""Which files a clip becomes, and what they are called."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from leancurve.delivery.preset import Preset
from leancurve.document.clip import Clip
from leancurve.errors import BadInput
from leancurve.formats.names import tidy_name

MOST_VERSIONS = 99_999


@dataclass(frozen=True)
class Part:
    """A stretch of a clip that becomes a file: its frames, both included, and what it is called
    beside the clip; nothing where it is all that is asked for."""

    first: int
    last: int
    name: str = ""


def parts_of(clip: Clip, preset: Preset, first: int = 0, last: int | None = None) -> list[Part]:
    """The files that a range of a clip becomes: one, or one of each named span within it.

    :class:`BadInput` where spans are asked for and there is none.
    """
    last = max(clip.frames - 1, 0) if last is None else last
    if preset.files != "marks":
        return [Part(first, last)]
    spans = [m for m in clip.marks if m.name and m.first < m.last]
    parts = [
        Part(max(m.first, first), min(m.last, last), m.name)
        for m in sorted(spans)
        if m.first <= last and m.last >= first
    ]
    if not parts:
        raise BadInput("there is no named span in the range: mark one, or deliver it whole")
    return parts


def with_part(action: str, part: Part) -> str:
    """What a file's action is called."""
    return f"{action}_{tidy_name(part.name)}" if part.name else action


def with_more(action: str, clips: int) -> str:
    """What the action of a file of several clips is called, after the first one's."""
    return f"{action}_and_{clips - 1}_more" if clips > 1 else action


def groups_of(clips: Sequence[Clip], preset: Preset) -> list[list[int]]:
    """Which clips go into one file, by their place, in their order: each by itself, or all those on
    one skeleton with the same props."""
    groups: dict[object, list[int]] = {}
    for k, clip in enumerate(clips):
        alike = (clip.skeleton, clip.reading.up_axis, clip.reading.metres_per_unit, clip.props)
        groups.setdefault(alike if preset.files == "together" else k, []).append(k)
    return list(groups.values())
