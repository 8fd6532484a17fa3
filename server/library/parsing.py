"""All work on a file that nobody has looked at yet: reading, measuring, drawing, packing.

It runs in a child process with limits (:mod:`library.apart`): nothing but the core, so that a start
is quick.
"""

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from fractions import Fraction
from typing import Any

from documents.packing import Packed, packed, skin_blob
from leancurve.document.clip import Clip
from leancurve.errors import BadInput
from leancurve.figure.skeleton import Skeleton
from leancurve.formats.bvh import Take as ReadTake
from leancurve.formats.choices import Choices
from leancurve.formats.files import read_takes
from leancurve.measures.findings import find, work_left
from leancurve.measures.gravity import told_by_gravity
from leancurve.measures.picture import Picture, picture
from leancurve.numbers.kernels.text import scan_numbers
from leancurve.progress import Progress, part_of, silent


@dataclass(frozen=True)
class Looked:
    """A take that has been read and looked at: all that is kept of it, nothing left to compute."""

    name: str
    skeleton: Skeleton
    skin: tuple[str, bytes] | None
    """Of its skeleton: the digest and the bytes to keep."""
    triangles: int
    rate: Fraction
    frames: int
    channels: int
    notes: tuple[str, ...]
    warnings: tuple[str, ...]
    findings: list[dict[str, Any]]
    work: float
    picture: Picture
    document: Packed


def look(read: ReadTake, file: str, progress: Progress = silent) -> Looked:
    """Measure, draw and pack a take that was read from a file of that name."""
    clip = read.clip
    if clip.frames == 0:
        raise BadInput("the file holds a skeleton but no frames of motion", file=file)
    found = find(clip, progress=part_of(progress, 0.0, 0.8))
    drawing = picture(clip, read.skin)
    progress(0.9)
    return Looked(
        name=clip.name,
        skeleton=clip.skeleton,
        skin=None if read.skin is None else skin_blob(read.skin),
        triangles=0 if read.skin is None else len(read.skin.triangles),
        rate=clip.rate,
        frames=clip.frames,
        channels=len(clip.channels),
        notes=(*read.notes, *told_by_gravity(clip)),
        warnings=read.warnings,
        findings=[asdict(f) for f in found],
        work=work_left(found),
        picture=drawing,
        document=packed(clip),
    )


def choices_of(told: Mapping[str, Any]) -> Choices:
    """What was chosen, as it is kept: a rate as two whole numbers, all else as in
    :class:`Choices`."""
    rate = told.get("rate")
    return Choices(
        rate=None if rate is None else Fraction(*rate),
        order=told.get("order"),
        orders=told.get("orders") or {},
        within_deg=told.get("within_deg"),
    )


@dataclass(frozen=True)
class Wanted:
    """What of a file is looked at, and how it is read: all its takes, or one ``part``; ``choices``
    as they are kept; a table of channels is read onto the skeleton of ``like``."""

    like: Clip | None = None
    choices: Mapping[str, Any] = field(default_factory=dict)
    part: int | None = None


def look_at(data: bytes, name: str, wanted: Wanted, progress: Progress = silent) -> list[Looked]:
    """Read a file's bytes and look at the takes in them that are wanted."""
    takes = read_takes(data, name, like=wanted.like, choices=choices_of(wanted.choices))
    if wanted.part is not None:
        takes = takes[wanted.part : wanted.part + 1]
    progress(0.4)
    each = 0.6 / len(takes)
    return [look(t, name, part_of(progress, 0.4 + k * each, each)) for k, t in enumerate(takes)]


# Imported once by the process that children are forked from: the kernel is loaded for all.
scan_numbers(b"0 0.25 0.12345678901234567")
