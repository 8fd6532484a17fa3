"""BVH: skeletal hierarchy and motion as text, read and written in full.

The format has no standard body; the rules followed are those its files share: rotations
intrinsic in the order the channels are listed, offsets in the parent's frame, one row of
numbers a frame. What files disagree on (unit, what position channels mean) is decided by
evidence, said in the notes, and can be changed in the reading.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from fractions import Fraction

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.clip import Clip, Reading
from leancurve.document.evaluation import effective
from leancurve.document.limits import (
    LARGEST,
    MOST_JOINTS,
    require_name,
    require_room,
    require_within,
)
from leancurve.document.prop import CHANNELS
from leancurve.document.rotations import angles_afresh
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.figure.skeleton import STRAIGHT, EndSite, Skeleton
from leancurve.figure.skin import Skin
from leancurve.formats.evidence import guess_unit, guess_up, position_meaning, rate_of
from leancurve.measures.drift import find_ends
from leancurve.numbers.arrays import Floats, Ints

CHANNEL_NAMES = {
    "xposition": "tx",
    "yposition": "ty",
    "zposition": "tz",
    "xrotation": "rx",
    "yrotation": "ry",
    "zrotation": "rz",
}
WRITTEN_NAMES = {short: f"{long[0].upper()}{long[1:]}" for long, short in CHANNEL_NAMES.items()}
MAX_DEPTH = 500


@dataclass(frozen=True)
class Take:
    """What a file holds, as found: the clip as read and what there is to say about reading it."""

    clip: Clip
    notes: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()
    skin: Skin | None = None
    """Its body, where the file holds one."""


BLANK = re.compile(rb"\s*")
LINE = re.compile(rb"[^\r\n]*(\r\n|\r|\n|$)")


@dataclass
class _Hierarchy:
    names: list[str] = field(default_factory=list)
    known: set[str] = field(default_factory=set)
    parents: list[int] = field(default_factory=list)
    offsets: list[tuple[float, float, float]] = field(default_factory=list)
    layout: list[tuple[str, ...]] = field(default_factory=list)
    ends: list[EndSite] = field(default_factory=list)


@dataclass
class _Open:
    """A block whose closing brace has not been seen; ``joint`` is -1 for an end site."""

    joint: int
    line: int
    offset: tuple[float, float, float] | None = None
    channels: tuple[str, ...] | None = None


def read_bvh(data: bytes, name: str = "take") -> Take:
    """Read a BVH file. Raises :class:`BadInput` with the line and what was expected there."""
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        try:
            data = data.decode("utf-16").encode()
        except UnicodeDecodeError:
            raise BadInput("the text is marked as UTF-16 but is not valid UTF-16") from None
    data = data.removeprefix(b"\xef\xbb\xbf")
    if not data.strip():
        raise BadInput("the file is empty; expected HIERARCHY", line=1)
    if b"\0" in data:
        raise BadInput("the file is not text; expected a BVH file that begins with HIERARCHY")
    found = re.search(rb"(?:^|[\r\n])[ \t]*MOTION[ \t]*(?=[\r\n]|$)", data)
    head = data[: found.start()] if found else data
    tree = _read_hierarchy(_text(head), has_motion=found is not None)
    if found is None:
        raise BadInput("expected MOTION after the hierarchy, found the end of the file")
    motion_line = _count_lines(data[: found.end()])
    frames, frame_time, body, body_line = _read_motion_head(data[found.end() :], motion_line)
    channels = sum(len(c) for c in tree.layout)
    require_room(len(tree.names), channels, frames)
    rows, warnings = _read_rows(body, body_line, channels, frames)
    return _take(name, tree, rows, rate_of(frame_time), warnings)


def _text(data: bytes) -> str:
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    return text.replace("\r\n", "\n").replace("\r", "\n")


def _count_lines(data: bytes) -> int:
    """The 1-based line that the end of ``data`` stands on."""
    return data.count(b"\n") + data.count(b"\r") - data.count(b"\r\n") + 1


def _statements(text: str) -> Iterator[tuple[int, str]]:
    """Lines with their numbers, braces set apart, blank ones left out: one after another, so that
    what is wrong early is found early, and in time that grows with the text alone."""
    number, counted = 1, 0
    for found in re.finditer(r"\S[^\n]*", text):
        number += text.count("\n", counted, found.start())
        counted = found.start()
        line = found.group()
        start, stop = 0, len(line)
        while start < stop and (line[start] in "{}" or line[start].isspace()):
            if not line[start].isspace():
                yield number, line[start]
            start += 1
        braces: list[str] = []
        while start < stop and (
            line[stop - 1].isspace() or (line[stop - 1] in "{}" and line[stop - 2].isspace())
        ):
            stop -= 1
            if not line[stop].isspace():
                braces.append(line[stop])
        if start < stop:
            yield number, line[start:stop]
        for brace in reversed(braces):
            yield number, brace


def _read_hierarchy(text: str, *, has_motion: bool) -> _Hierarchy:
    statements = _statements(text)
    first_line, first = next(statements, (1, "MOTION"))
    if first.upper() != "HIERARCHY":
        raise BadInput(f"expected HIERARCHY, found {_shown(first)}", line=first_line)
    tree = _Hierarchy()
    stack: list[_Open] = []
    awaiting: _Open | None = None
    for number, text in statements:
        word, _, rest = text.partition(" ") if " " in text else text.partition("\t")
        keyword, rest = word.upper(), rest.strip()
        if awaiting is not None:
            if text != "{":
                raise BadInput(f"expected {{ to open the block, found {_shown(text)}", line=number)
            stack.append(awaiting)
            awaiting = None
            continue
        if keyword in ("ROOT", "JOINT"):
            awaiting = _open_joint(tree, stack, keyword, rest, number)
        elif keyword == "END":
            if not stack or stack[-1].joint < 0:
                raise BadInput("an End Site must stand inside a joint", line=number)
            _need_offset(tree, stack[-1], number)
            awaiting = _Open(-1, number)
        elif text == "}":
            if not stack:
                raise BadInput("found } with no open block", line=number)
            _close(tree, stack, number)
        elif keyword == "OFFSET":
            _offset(stack, rest, number)
        elif keyword == "CHANNELS":
            _channels(stack, rest, number)
        else:
            expected = "ROOT" if not stack and not tree.names else "JOINT, End Site, OFFSET or }"
            if not stack and tree.names:
                expected = "MOTION"
            raise BadInput(f"expected {expected}, found {_shown(text)}", line=number)
    if awaiting is not None or stack:
        block = awaiting or stack[-1]
        what = "an End Site" if block.joint < 0 else f"joint {tree.names[block.joint]!r}"
        where = "MOTION" if has_motion else "the end of the file"
        raise BadInput(f"{what} opened here is not closed by }} before {where}", line=block.line)
    if not tree.names:
        raise BadInput("expected ROOT, found no joint", line=first_line)
    return tree


def _shown(text: str) -> str:
    return repr(text if len(text) <= 40 else text[:37] + "…")


def _open_joint(
    tree: _Hierarchy, stack: list[_Open], keyword: str, name: str, number: int
) -> _Open:
    if keyword == "ROOT" and stack:
        raise BadInput("a ROOT cannot stand inside another joint", line=number)
    if keyword == "JOINT" and (not stack or stack[-1].joint < 0):
        raise BadInput("expected ROOT, found a JOINT outside any joint", line=number)
    if not name:
        raise BadInput(f"{keyword} has no name", line=number)
    require_name(name)
    if name in tree.known:
        raise BadInput(f"two joints are named {_shown(name)}; names must differ", line=number)
    if len(tree.names) >= MOST_JOINTS or len(stack) >= MAX_DEPTH:
        raise BadInput(f"more than {MOST_JOINTS} joints, or {MAX_DEPTH} deep", line=number)
    if stack:
        _need_offset(tree, stack[-1], number)
    tree.names.append(name)
    tree.known.add(name)
    tree.parents.append(stack[-1].joint if stack else -1)
    tree.offsets.append((0.0, 0.0, 0.0))
    tree.layout.append(())
    return _Open(len(tree.names) - 1, number)


def _need_offset(tree: _Hierarchy, block: _Open, number: int) -> None:
    if block.offset is None:
        what = "End Site" if block.joint < 0 else f"joint {tree.names[block.joint]!r}"
        raise BadInput(f"{what} has no OFFSET before this line", line=number)


def _close(tree: _Hierarchy, stack: list[_Open], number: int) -> None:
    block = stack.pop()
    _need_offset(tree, block, number)
    assert block.offset is not None
    if block.joint < 0:
        tree.ends.append(EndSite(stack[-1].joint, block.offset, len(tree.names)))
    else:
        tree.offsets[block.joint] = block.offset
        tree.layout[block.joint] = block.channels or ()


def _offset(stack: list[_Open], rest: str, number: int) -> None:
    if not stack:
        raise BadInput("OFFSET outside any joint", line=number)
    if stack[-1].offset is not None:
        raise BadInput("a second OFFSET in one block", line=number)
    words = rest.split()
    if len(words) != 3:
        raise BadInput(f"OFFSET needs 3 numbers, found {len(words)}", line=number)
    x, y, z = (_number(w, "OFFSET", number) for w in words)
    if max(abs(x), abs(y), abs(z)) > LARGEST:
        raise BadInput(f"OFFSET: expected numbers within ±{LARGEST:g}", line=number)
    stack[-1].offset = (x, y, z)


def _number(word: str, where: str, line: int) -> float:
    try:
        if "_" in word:
            raise ValueError
        value = float(word)
    except ValueError:
        raise BadInput(f"{where}: expected a number, found {_shown(word)}", line=line) from None
    if not math.isfinite(value):
        raise BadInput(f"{where}: expected a finite number, found {_shown(word)}", line=line)
    return value


def _channels(stack: list[_Open], rest: str, number: int) -> None:
    if not stack or stack[-1].joint < 0:
        raise BadInput("CHANNELS outside any joint", line=number)
    if stack[-1].channels is not None:
        raise BadInput("a second CHANNELS in one joint", line=number)
    words = rest.split()
    if not words or not words[0].isdigit():
        raise BadInput("CHANNELS needs a count and then names", line=number)
    count, names = int(words[0]), words[1:]
    if count != len(names):
        raise BadInput(f"CHANNELS says {count} but names {len(names)}", line=number)
    short: list[str] = []
    for name in names:
        if name.lower() not in CHANNEL_NAMES:
            raise BadInput(
                f"unknown channel {_shown(name)}; expected Xposition … Zrotation", line=number
            )
        if CHANNEL_NAMES[name.lower()] in short:
            raise BadInput(f"channel {name} is listed twice in one joint", line=number)
        short.append(CHANNEL_NAMES[name.lower()])
    stack[-1].channels = tuple(short)


def _read_motion_head(data: bytes, line: int) -> tuple[int, float, bytes, int]:
    """Frame count, frame time, the rows' bytes and the line they begin on."""
    position = 0
    found: dict[str, str] = {}
    for label in ("Frames", "Frame Time"):
        blank = BLANK.match(data, position)
        assert blank is not None
        line += _count_lines(blank.group()) - 1
        match = LINE.match(data, blank.end())
        assert match is not None
        text = match.group().decode("latin-1").strip()
        spaced = r"[ \t]+".join(label.split())
        pattern = rf"{spaced}[ \t]*:?[ \t]*(.*)"
        wanted = re.fullmatch(pattern, text, re.I)
        if wanted is None or not wanted.group(1):
            shown = _shown(text) if text else "the end of the file"
            raise BadInput(f"expected '{label}:' and a number, found {shown}", line=line)
        found[label] = wanted.group(1)
        if label == "Frames" and not re.fullmatch(r"\+?\d{1,9}", found[label]):
            raise BadInput(
                f"Frames: expected a whole number of 0 or more, found {_shown(found[label])}",
                line=line,
            )
        if label == "Frame Time":
            time = _number(found[label], label, line)
            if not 1e-6 <= time <= 10:
                raise BadInput(
                    f"Frame Time: expected seconds between 0.000001 and 10, found {found[label]}",
                    line=line,
                )
        position = match.end()
        line += 1
    return int(found["Frames"]), time, data[position:], line


def _read_rows(
    body: bytes, first_line: int, channels: int, declared: int
) -> tuple[Floats, list[str]]:
    """The motion as ``(frames, channels)`` and warnings about its frame count."""
    from leancurve.numbers.kernels.text import scan_numbers  # numba loads late

    values, read, bad = scan_numbers(body)
    if bad:
        _, line, token = bad[0]
        shown = token.decode("latin-1")
        kind = "a finite number" if re.match(r"[+-]?(nan|inf)", shown, re.I) else "a number"
        raise BadInput(f"expected {kind}, found {_shown(shown)}", line=first_line + line)
    if channels == 0:
        if len(values):
            raise BadInput("the rows hold numbers but no joint has channels", line=first_line)
        return np.zeros((declared, 0)), []
    warnings: list[str] = []
    lines, counts = first_line + read[:, 0], np.diff(read[:, 1], prepend=0)
    if np.any(counts != channels):
        values = _mend_rows(values, counts, lines, channels, warnings)
    frames = len(values) // channels
    if frames != declared:
        warnings.append(
            f"the file says {declared} frames but holds {frames}: the {frames} that are there "
            "were brought in"
        )
    if frames == 0:
        warnings.append("the file holds no motion, only a skeleton")
    return values.reshape(frames, channels), warnings


def _mend_rows(
    values: Floats, counts: Ints, lines: Ints, channels: int, warnings: list[str]
) -> Floats:
    """Rows broken over several lines are joined; a last row cut short is dropped."""
    wrong = np.flatnonzero(counts != channels)
    first = int(wrong[0])
    if len(wrong) == 1 and first == len(counts) - 1 and counts[first] < channels:
        warnings.append(
            f"the last row (line {lines[first]}) holds {counts[first]} of {channels} "
            "numbers: it was left out"
        )
        return values[: len(values) - int(counts[first])]
    # A row may be broken over lines: then every row still ends where a line ends.
    ends = np.cumsum(counts)
    rows = np.arange(channels, ends[-1] + 1, channels)
    if len(values) % channels == 0 and np.all(np.isin(rows, ends)) and counts.max() <= channels:
        return values
    raise BadInput(
        f"expected {channels} numbers in this row, found {counts[first]}", line=int(lines[first])
    )


def _take(name: str, tree: _Hierarchy, rows: Floats, rate: Fraction, warnings: list[str]) -> Take:
    skeleton = Skeleton(
        tuple(tree.names), tuple(tree.parents), tuple(tree.offsets), tuple(tree.ends)
    )
    layout = tuple(tree.layout)
    ids = [base_track(j, c) for j, names in enumerate(layout) for c in names]
    by_channel = np.ascontiguousarray(rows.T)
    columns = {channel: by_channel[k] for k, channel in enumerate(ids)}
    for channel, values in columns.items():
        require_within(values, LARGEST, f"{tree.names[channel.joint]} {channel.name}: values")
    notes: list[str] = []
    metres, note = guess_unit(skeleton.rest_height)
    notes.append(note)
    root_mode, _ = position_meaning(skeleton, layout, columns, roots=True)
    joint_mode, moving = position_meaning(skeleton, layout, columns, roots=False)
    if moving:
        how = "replace the rest offset" if joint_mode != "add" else "add to the rest offset"
        notes.append(f"position channels on {moving} joints besides the root {how}")
    if root_mode == "replace":
        notes.append("the root's position channels replace its offset")
    up = guess_up(skeleton)
    reading = Reading(
        metres_per_unit=metres,
        up_axis="x" if up == "x" else "z" if up == "z" else "y",
        root_positions=root_mode or "add",
        joint_positions=joint_mode or "replace",
        ends=find_ends(skeleton),
    )
    curves: dict[TrackId, Curve] = {c: SampledCurve(v) for c, v in columns.items()}
    clip = Clip(skeleton, layout, curves, rate, len(rows), reading, name)
    return Take(clip, tuple(notes), tuple(warnings))


def write_bvh(clip: Clip) -> bytes:
    """The clip on each of its frames as BVH: names, order, offsets and channel orders kept.

    Numbers are written in the shortest form that reads back as the same double. The format knows
    no rest rotations: a joint without rotation channels that has one gets channels that hold it.
    """
    clip = _with_rests(clip)
    lines = ["HIERARCHY"]
    below: dict[int, list[tuple[int, int, EndSite | int]]] = {}
    for j, parent in enumerate(clip.skeleton.parents):
        below.setdefault(parent, []).append((j, 1, j))
    for end in clip.skeleton.ends:
        below.setdefault(end.parent, []).append((end.before, 0, end))

    listed: list[TrackId] = []

    def put(item: EndSite | int, depth: int) -> None:
        pad = "\t" * depth
        if isinstance(item, EndSite):
            lines.extend([f"{pad}End Site", f"{pad}{{"])
            lines.append(f"{pad}\tOFFSET {_triple(item.offset)}")
        else:
            word = "ROOT" if clip.skeleton.parents[item] < 0 else "JOINT"
            lines.extend([f"{pad}{word} {clip.skeleton.names[item]}", f"{pad}{{"])
            lines.append(f"{pad}\tOFFSET {_triple(clip.skeleton.offsets[item])}")
            channels = [WRITTEN_NAMES[c] for c in clip.layout[item]]
            lines.append(" ".join([f"{pad}\tCHANNELS {len(channels)}", *channels]))
            listed.extend(base_track(item, c) for c in clip.layout[item])
            for _, _, child in sorted(below.get(item, []), key=lambda b: (b[0], b[1])):
                put(child, depth + 1)
        lines.append(f"{pad}}}")

    for _, _, root in below[-1]:
        put(root, 0)
    lines += ["MOTION", f"Frames: {clip.frames}", f"Frame Time: {float(1 / clip.rate)!r}"]
    values = effective(clip, np.arange(clip.frames, dtype=np.float64))
    if values:
        # Columns go as joints are listed: each with all below it, whatever order they came in.
        rows = np.stack([values[c] for c in listed], axis=1)
        lines.extend(" ".join(map(repr, row)) for row in rows.tolist())
    return ("\n".join(lines) + "\n").encode()


def _with_rests(clip: Clip) -> Clip:
    layout, curves = list(clip.layout), dict(clip.curves)
    for joint, rest in enumerate(clip.skeleton.rests):
        if rest == STRAIGHT or clip.order(joint):
            continue
        angles = angles_afresh(np.array(rest)[None], "ZXY")[0]
        layout[joint] = (*layout[joint], "rz", "rx", "ry")
        for name, angle in zip(("rz", "rx", "ry"), angles, strict=True):
            curves[base_track(joint, name)] = SampledCurve(np.full(clip.frames, angle))
    return replace(clip, layout=tuple(layout), curves=curves)


def _triple(offset: tuple[float, float, float]) -> str:
    return " ".join(repr(float(v)) for v in offset)


def with_prop_roots(clip: Clip) -> Clip:
    """The clip with its props as joints, each a root of its own: for formats that know no props."""
    if not clip.props:
        return clip
    skeleton, taken = clip.skeleton, set(clip.skeleton.names)
    names, curves = list(skeleton.names), dict(clip.curves)
    for prop in clip.props:
        name = prop.name.replace(" ", "_")
        while name in taken:
            name += "_prop"
        taken.add(name)
        for track in prop.tracks:
            curves[base_track(len(names), track.name)] = curves.pop(track)
        names.append(name)
    more = len(clip.props)
    rests = (*skeleton.rests, *(STRAIGHT,) * more) if skeleton.rests else ()
    wider = Skeleton(
        tuple(names),
        (*skeleton.parents, *(-1,) * more),
        (*skeleton.offsets, *((0.0, 0.0, 0.0),) * more),
        skeleton.ends,
        rests,
    )
    layout = (*clip.layout, *(CHANNELS,) * more)
    return replace(clip, skeleton=wider, layout=layout, curves=curves, props=())
