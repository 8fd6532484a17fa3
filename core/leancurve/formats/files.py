"""Files by their ending: which reader and writer a name asks for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import PurePath
from typing import Any

from leancurve.document.clip import Clip
from leancurve.document.sound import require_sound
from leancurve.errors import BadInput
from leancurve.formats.bvh import Take, read_bvh, write_bvh
from leancurve.formats.clipjson import read_clip, write_clip

ENDINGS = (".bvh", ".json")


def _ending(name: str) -> str:
    ending = PurePath(name).suffix.lower()
    if ending not in ENDINGS:
        raise BadInput(f"expected a file ending in {' or '.join(ENDINGS)}", file=name)
    return ending


def read_take(data: bytes, file: str) -> Take:
    """The take in a file's bytes; :class:`BadInput` names the file, and the line where it can."""
    try:
        take = read_bvh(data, PurePath(file).stem) if _ending(file) == ".bvh" else read_clip(data)
        require_sound(take.clip)
        return take
    except BadInput as trouble:
        raise trouble.in_file(file) from None


def write_take(clip: Clip, file: str, recipe: Sequence[Mapping[str, Any]] = ()) -> bytes:
    """The clip as the bytes of a file of that name's kind."""
    return write_bvh(clip) if _ending(file) == ".bvh" else write_clip(clip, recipe)
