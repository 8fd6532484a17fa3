"""Looking at a workspace's file before any of it is kept. No database here.

A stranger's file is looked at in a child process with limits: every member is one that the file
says it has, once; names are those of what they name; documents are within limits, lines those of
known operations; what refers to something refers to what is there. The first thing that is wrong
is said.
"""

import hashlib
import zipfile
import zlib
from collections.abc import Iterable
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import orjson
from documents.packing import decode, skin_of
from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.clip import Clip
from leancurve.document.limits import require_room, require_sound_curve
from leancurve.document.sound import require_sound
from leancurve.document.stored import clip_of, skeleton_of, tracks_of, upgraded
from leancurve.errors import BadInput, short
from leancurve.operations import operation_named
from leancurve.progress import Progress, silent
from leancurve.recipe import checked_line, named_states
from pydantic import ValidationError

from studio.told import READ, WHAT, Told, ToldClip, ToldLine, ToldState

MOST_LINE = 16 * 2**20
MOST_TEXT = 512 * 2**20
MOST_BLOB = 256 * 2**20
MOST_MEMBERS = 5_000_000
DEEPEST = 60
MOST_IN_A_ROW = 200
"""Documents that are each made of the one before, where curves were not kept."""


@dataclass(frozen=True)
class Most:
    """What a workspace may hold: bytes in all and of one take's file, and takes."""

    bytes: int = 64 * 2**30
    file: int = 2**30
    takes: int = 1_000_000


def blob_names(file: zipfile.ZipFile) -> list[str]:
    """The digests of the blobs that a workspace's file holds."""
    return [n.removeprefix("blobs/") for n in file.namelist() if n.startswith("blobs/")]


def checked(source: Path, most: Most, progress: Progress = silent) -> Told:
    """What a workspace's file says, all of it looked at; :class:`BadInput` says what is wrong."""
    try:
        with zipfile.ZipFile(source) as file:
            return _Checked(file, most).all(progress)
    except (
        zipfile.BadZipFile, OSError, EOFError, LookupError, TypeError, ValueError, AttributeError,
        ArithmeticError, RecursionError, NotImplementedError, RuntimeError,
    ) as trouble:  # fmt: skip
        if isinstance(trouble, BadInput):
            raise BadInput(short(trouble.message, 300)) from None
        raise BadInput(
            f"this is not a workspace file, or it is damaged: {short(str(trouble))}"
        ) from None
    except zlib.error:
        raise BadInput("this is not a workspace file, or it is damaged") from None


def _parsed(text: bytes) -> Told:
    if b"\\u0000" in text:
        raise BadInput("workspace.json: contains characters that are not allowed in text")
    said = orjson.loads(text)
    _require_shallow(said)
    try:
        told = Told.model_validate(said)
    except ValidationError as trouble:
        first = trouble.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise BadInput(f"workspace.json: {short(where)}: {short(first['msg'])}") from None
    return told


def _require_shallow(value: Any) -> None:
    """Nothing is nested so deep that whoever walks through it gets lost."""
    level, depth = [value], 0
    while level:
        depth += 1
        if depth > DEEPEST:
            raise BadInput(f"workspace.json: nested more than {DEEPEST} deep")
        level = [
            x
            for v in level
            for x in (v.values() if isinstance(v, dict) else v)
            if isinstance(x, dict | list)
        ]


def _once(what: str, values: Iterable[Any]) -> None:
    seen: set[Any] = set()
    for value in values:
        if value in seen:
            raise BadInput(f"workspace.json: {what} {short(str(value), 40)} is there twice")
        seen.add(value)


@dataclass
class _Header:
    """A document without its curves: what its tracks are, and how long they are to be."""

    tracks: int
    base: int
    frames: int
    rate: Fraction
    skeleton: str
    joints: int


@dataclass(frozen=True)
class _Length:
    """Of a channel: its keys, and its frames where it has a value on each."""

    keys: int
    frames: int | None


@dataclass
class _Checked:
    """One file, looked at."""

    file: zipfile.ZipFile
    most: Most
    _used: set[str] = field(default_factory=set)
    _lines: set[str] = field(default_factory=set)
    _headers: dict[str, _Header] = field(default_factory=dict)
    _curves: dict[str, _Length] = field(default_factory=dict)
    _inputs: set[str] = field(default_factory=set)

    def all(self, progress: Progress) -> Told:
        """What the file says, everything looked at."""
        members = self._members()
        if members.get("workspace.json", 0) > MOST_TEXT:
            raise BadInput("workspace.json: it is too large")
        told = _parsed(self.file.read("workspace.json"))
        if told.what != WHAT or told.version not in READ:
            raise BadInput(f"expected a {WHAT} of version {' or '.join(map(str, READ))}")
        if len(told.takes) > self.most.takes:
            raise BadInput(f"it holds {len(told.takes):,} takes; at most {self.most.takes:,}")
        _check_references(told)
        _check_names(told)
        self._check_files(told, members)
        for k, (name, state) in enumerate(told.states.items()):
            progress(k / len(told.states))
            self._check_state(name, state)
        for clip in told.clips:
            for revision in clip.revisions:
                for sha in revision.lines:
                    self._check_line(sha)
        for recipe in told.recipes:
            for line in recipe.lines:
                _check_line(line)
        for skeleton in told.skeletons:
            bones = skeleton_of(self._bones(skeleton.digest))
            if skeleton.skin:
                skin = skin_of(self._blob(skeleton.skin))
                skin.require_sound(len(bones))
                if len(skin.triangles) != skeleton.triangles:
                    raise BadInput("a body has other triangles than it says")
        if not self._inputs <= set(told.states):
            raise BadInput("a line of a recipe uses a document that is missing")
        self._check_takes(told)
        self._require_nothing_else(members)
        return told

    def _members(self) -> dict[str, int]:
        """Bytes of each member once it is unpacked, before any of it is."""
        listed = self.file.infolist()
        if len(listed) > MOST_MEMBERS:
            raise BadInput(f"it holds {len(listed):,} parts; at most {MOST_MEMBERS:,}")
        _once("a part", (info.filename for info in listed))
        sizes = {info.filename: info.file_size for info in listed}
        total = sum(sizes.values()) - sizes.get("workspace.json", 0)
        if total > self.most.bytes:
            raise BadInput(
                f"it unpacks to {total / 1e9:.1f} GB: a workspace may hold "
                f"{self.most.bytes / 1e9:.1f} GB"
            )
        return sizes

    def _check_files(self, told: Told, members: dict[str, int]) -> None:
        """Takes' files and deliveries: each is there, once, and none is too large."""
        # Takes that came in one file name it alike.
        shared = {(t.file, t.file_name): t for t in told.takes}
        for part in (*shared.values(), *told.deliveries):
            self.file.getinfo(part.file)
            if not part.file.startswith(("takes/", "deliveries/")):
                raise BadInput(f"workspace.json: {short(part.file)} is no file of a take")
            if part.file in self._used:
                raise BadInput(f"workspace.json: {short(part.file)} is named twice")
            if members[part.file] > self.most.file:
                raise BadInput(f"{short(part.file)}: larger than a file may be")
            self._used.add(part.file)
            # All of it unpacks, to the length it is said to have.
            with self.file.open(part.file) as opened:
                while opened.read(2**20):
                    pass

    def _blob(self, sha: str) -> bytes:
        name = f"blobs/{sha}"
        try:
            info = self.file.getinfo(name)
        except KeyError:
            raise BadInput(f"a part of a document is missing: {short(sha, 12)}") from None
        if info.file_size > MOST_BLOB:
            raise BadInput(f"a part of a document is too large: {short(sha, 12)}")
        data = self.file.read(name)
        if hashlib.sha256(data).hexdigest() != sha:
            raise BadInput(f"a part of a document is damaged: {short(sha, 12)}")
        self._used.add(name)
        return data

    def _check_state(self, name: str, state: ToldState) -> None:
        """The document is what its name says, and one that a clip may be."""
        raw = bytes.fromhex(state.manifest)
        if hashlib.sha256(state.header.encode() + raw).hexdigest() != name:
            raise BadInput(f"a document is not what its name says: {short(name, 12)}")
        header = self._header(state.header)
        digests = [state.manifest[k : k + 64] for k in range(0, len(state.manifest), 64)]
        if len(digests) != header.tracks:
            raise BadInput(f"a document has other tracks than it says: {short(name, 12)}")
        if state.line:
            self._check_line(state.line)
        if state.pruned:
            return
        keys = 0
        for sha in digests:
            length = self._curve(sha)
            keys += length.keys
            if length.frames is not None and length.frames != header.frames:
                raise BadInput(f"a channel is not as long as its clip: {short(sha, 12)}")
        if keys != state.keys:
            raise BadInput(f"a document has other keys than it says: {short(name, 12)}")

    def _header(self, sha: str) -> _Header:
        known = self._headers.get(sha)
        if known is not None:
            return known
        header, own = upgraded(orjson.loads(self._blob(sha)))
        tracks = tracks_of(header)
        frames = int(header["frames"])
        require_room(1, len(tracks), frames)
        bones = own if own is not None else self._bones(str(header["skeleton"]))
        flat: Curve = SampledCurve(np.zeros(max(frames, 0)))
        clip = clip_of(header, skeleton_of(bones), dict.fromkeys(tracks, flat))
        require_sound(clip)
        _require_whole(clip, len(tracks))
        skeleton = "" if own is not None else str(header["skeleton"])
        made = _Header(
            len(tracks), len(clip.channels), frames, clip.rate, skeleton, len(clip.skeleton)
        )
        self._headers[sha] = made
        return made

    def _bones(self, sha: str) -> Any:
        bones = orjson.loads(self._blob(sha))
        skeleton_of(bones)
        return bones

    def _curve(self, sha: str) -> _Length:
        known = self._curves.get(sha)
        if known is None:
            curve = decode(self._blob(sha))
            require_sound_curve(curve, "a document's channel")
            frames = len(curve.values) if isinstance(curve, SampledCurve) else None
            known = self._curves[sha] = _Length(curve.key_count, frames)
        return known

    def _check_line(self, sha: str) -> None:
        if sha in self._lines:
            return
        unpacker = zlib.decompressobj()
        text = unpacker.decompress(self._blob(sha), MOST_LINE)
        if unpacker.unconsumed_tail or not unpacker.eof or b"\\u0000" in text:
            raise BadInput("a line of a recipe is not one that can be read")
        line = orjson.loads(text)
        _require_shallow(line)
        try:
            told = ToldLine.model_validate(line)
        except ValidationError:
            raise BadInput("a line of a recipe is not one that can be read") from None
        _check_line(line)
        kinds = operation_named(told.operation).inputs
        if not set(told.inputs) <= set(kinds):
            raise BadInput(f"{told.operation}: it has no such input")
        self._inputs |= named_states(line)
        self._lines.add(sha)

    def _check_takes(self, told: Told) -> None:
        """What is said of takes is what their documents hold."""
        for take in told.takes:
            state = told.states[take.state]
            header = self._headers[state.header]
            said = (Fraction(*take.rate), take.frames, take.joints, take.channels, take.keys)
            holds = (header.rate, header.frames, header.joints, header.base, state.keys)
            if said != holds or header.skeleton not in ("", take.skeleton) or state.pruned:
                raise BadInput(f"{short(take.name)}: the take is not what is said of it")
        for stored in told.stored:
            if stored.frames != self._headers[told.states[stored.state].header].frames:
                raise BadInput(f"{short(stored.name)}: the motion is not what is said of it")

    def _require_nothing_else(self, members: dict[str, int]) -> None:
        more = set(members) - self._used - {"workspace.json"}
        if more:
            raise BadInput(f"it holds what nothing in it refers to: {short(min(more))}")


def _require_whole(clip: Clip, tracks: int) -> None:
    if len(clip.tracks) != tracks or set(clip.tracks) != set(clip.curves):
        raise BadInput("a document's tracks are not those of its figure, props and layers")


def _check_line(line: Any) -> None:
    try:
        checked_line(line["operation"], line["params"], line["scope"], line["version"])
    except (KeyError, TypeError):
        raise BadInput("a line of a recipe is not one that can be read") from None


def _check_names(told: Told) -> None:
    """What may be there once is: ids, numbers, names."""
    _once("take", (t.id for t in told.takes))
    _once("clip", (c.id for c in told.clips))
    _once("revision", (r.id for c in told.clips for r in c.revisions))
    for clip in told.clips:
        _once("revision number", (r.number for r in clip.revisions))
        _once("chosen", clip.chosen)
    _once("skeleton", (s.digest for s in told.skeletons))
    _once("profile", (p.name for p in told.profiles))
    _once("recipe", (r.name for r in told.recipes))
    _once("stored motion", (m.name for m in told.stored))


def _check_references(told: Told) -> None:
    takes, skeletons = {t.id for t in told.takes}, {s.digest for s in told.skeletons}
    known = set(told.states)
    named: set[str | None] = {t.state for t in (*told.takes, *told.stored)}
    named |= {state for clip in told.clips for state in clip.chosen}
    for state in told.states.values():
        named |= {state.before, state.with_take}
    fine = all(t.skeleton in skeletons for t in told.takes)
    for clip in told.clips:
        fine = fine and _leads_together(clip, takes)
        for r in clip.revisions:
            named |= {r.state, r.before, r.take_state}
    made = {(c.id, r.id) for c in told.clips for r in c.revisions}
    fine = fine and all((d.clip, d.revision) in made for d in told.deliveries)
    revisions = {r for _, r in made}
    for take in told.takes:
        if take.retargeted is not None:
            fine = fine and take.retargeted.source in revisions | {None}
            fine = fine and take.retargeted.target in takes | {None}
            fine = fine and take.retargeted.version_of in takes | {None}
    if not fine or not named - {None} <= known:
        raise BadInput("workspace.json: something in it refers to what is not there")
    for name in told.states:
        _require_origin(told, name)


def _leads_together(clip: ToldClip, takes: set[int]) -> bool:
    ids = {r.id for r in clip.revisions}
    return clip.take in takes and {clip.head, clip.tip} <= ids and all(
        r.take in takes | {None}
        and r.parent in ids | {None}
        and (r.parent is None or r.parent < r.id)
        for r in clip.revisions
    )  # fmt: skip


def _require_origin(told: Told, name: str) -> None:
    """A document whose curves were not kept is made of others, and those of whole ones."""
    left, at = MOST_IN_A_ROW, told.states[name]
    while at.pruned:
        left -= 1
        if left < 0 or at.before is None or at.with_take is None or not at.line:
            raise BadInput(f"a document cannot be made again: {short(name, 12)}")
        if told.states[at.with_take].pruned:
            raise BadInput(f"a document cannot be made again: {short(name, 12)}")
        at = told.states[at.before]
