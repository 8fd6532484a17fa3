"""Files by their ending: which reader and writer a name asks for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import PurePath, PurePosixPath
from typing import Any

from leancurve.document.clip import Clip
from leancurve.document.sound import require_sound
from leancurve.errors import BadInput, short
from leancurve.figure.skin import Skin
from leancurve.formats.archive import unpacked
from leancurve.formats.bvh import Take, read_bvh, write_bvh
from leancurve.formats.choices import AS_TOLD, Choices
from leancurve.formats.clipjson import read_clip, write_clip
from leancurve.formats.gltf.container import Beside, nothing_beside
from leancurve.formats.gltf.reading import read_gltf
from leancurve.formats.gltf.writing import write_gltf
from leancurve.formats.scene.takes import MOST_TAKES
from leancurve.formats.table import read_table, write_table

SINGLE = (".bvh", ".json")
"""Endings of files that hold one take."""
TABLE = ".csv"
"""Channels alone: read onto a skeleton that is given beside it."""
USD = (".usda", ".usdc", ".usd", ".usdz")
WRITTEN = (*SINGLE, ".glb", ".gltf", ".usda", ".usdc", TABLE)
ONE = (*SINGLE, ".glb", ".gltf", *USD)
READ = (*ONE, ".zip")


def is_table(file: str) -> bool:
    """Whether a file of that name is a table of channels, which needs a skeleton beside it."""
    return PurePath(file).suffix.lower() == TABLE


def known_by_name(name: str, known: Sequence[str] = READ) -> str:
    """A file's ending, in lower case; :class:`BadInput` where it is none of the known ones."""
    ending = PurePath(name).suffix.lower()
    if ending not in known:
        told = f"{', '.join(known[:-1])} or {known[-1]}"
        raise BadInput(f"expected a file ending in {told}", file=name)
    return ending


def read_takes(
    data: bytes, file: str, beside: Beside = nothing_beside, like: Clip | None = None,
    choices: Choices = AS_TOLD,
) -> list[Take]:  # fmt: skip
    """The takes in a file's bytes, one at least; :class:`BadInput` names the file, and the line
    where it can. What the file refers to is looked up ``beside`` it. A zip's files are read one
    by one, each beside the others. A table of channels is read onto the skeleton of ``like``, and
    everything as the ``choices`` say."""
    try:
        choices.checked()
        if is_table(file):
            if like is None:
                raise BadInput(
                    "a table of channels is read onto a skeleton: name a file that has it"
                )
            takes = [_at_rate(read_table(data, like, PurePath(file).stem), choices, TABLE)]
        elif known_by_name(file) == ".zip":
            return _of_archive(unpacked(data), choices)
        else:
            takes = _of_one(data, file, beside, choices)
        for take in takes:
            require_sound(take.clip)
        return takes
    except BadInput as trouble:
        within = trouble.file if trouble.file and trouble.file != file else None
        raise trouble.in_file(f"{file}, {within}" if within else file) from None


def _of_one(data: bytes, file: str, beside: Beside, choices: Choices) -> list[Take]:
    ending, name = known_by_name(file, ONE), PurePath(file).stem
    if ending in SINGLE:
        take = read_bvh(data, name) if ending == ".bvh" else read_clip(data)
        return [_at_rate(take, choices, ending)]
    if ending in USD:
        from leancurve.formats.usd.reading import read_usd  # only here: it is slow to load

        return read_usd(data, name, choices)
    return read_gltf(data, name, beside, choices)


def _at_rate(take: Take, choices: Choices, ending: str) -> Take:
    """A take whose file has its frames and channels as they are, at the rate that is chosen."""
    if choices.turns:
        raise BadInput(f"a {ending} file says itself what its rotation channels are")
    clip, rate = take.clip, choices.rate
    if rate is None or rate == clip.rate:
        return take
    told = f"rate {float(rate):g} a second, as chosen: the file says {float(clip.rate):g}"
    return replace(take, clip=replace(clip, rate=rate), notes=(*take.notes, told))


def _of_archive(files: Mapping[str, bytes], choices: Choices) -> list[Take]:
    known = [n for n in files if PurePath(n).suffix.lower() in ONE]
    if not known:
        raise BadInput(f"it holds no file ending in {', '.join(ONE)}")
    takes: list[Take] = []
    for name in sorted(known):
        beside = _in_folder_of(name, files)
        takes += read_takes(files[name], PurePath(name).name, beside, choices=choices)
        if len(takes) > MOST_TAKES:
            raise BadInput(f"it holds more than {MOST_TAKES} takes")
    return takes


def _in_folder_of(name: str, files: Mapping[str, bytes]) -> Beside:
    folder = PurePosixPath(name).parent
    return lambda beside: files.get(str(folder / beside))


def read_take(data: bytes, file: str) -> Take:
    """The take in a file's bytes, or the first of several."""
    return read_takes(data, file)[0]


def chosen(takes: Sequence[Take], wanted: str | None, file: str) -> Take:
    """The take of a name among those of a file, or the first."""
    if wanted is None:
        return takes[0]
    found = next((t for t in takes if t.clip.name == wanted), None)
    if found is None:
        there = ", ".join(short(t.clip.name, 40) for t in takes[:8])
        raise BadInput(f"no take is named {wanted!r}; there are {there}", file=file)
    return found


def write_take(
    clip: Clip, file: str, recipe: Sequence[Mapping[str, Any]] = (), skin: Skin | None = None
) -> bytes:
    """The clip as the bytes of a file of that name's kind, with its body where that holds one."""
    ending = known_by_name(file, WRITTEN)
    if ending in (".glb", ".gltf"):
        return write_gltf([clip], skin, text=ending == ".gltf")
    if ending in USD:
        from leancurve.formats.usd.writing import write_usd  # only here: it is slow to load

        return write_usd([clip], skin, ending)
    if ending == TABLE:
        return write_table(clip)
    return write_bvh(clip) if ending == ".bvh" else write_clip(clip, recipe)
