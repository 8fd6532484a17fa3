"""What a workspace's file says, and looking at all of it. No database here.

A stranger's file is looked at in a child process with limits: names are those of what they name,
documents within limits, lines those of known operations. What is missing or damaged is said.
"""

import hashlib
import zipfile
import zlib
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any

import orjson
from documents.packing import decode
from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.limits import require_room, require_sound, require_sound_curve
from leancurve.document.stored import clip_of, skeleton_of, tracks_of, upgraded
from leancurve.errors import BadInput, short
from leancurve.progress import Progress, silent
from leancurve.recipe import checked_line
from pydantic import BaseModel, ConfigDict, Field, ValidationError

WHAT = "Lean Curve workspace"
VERSION = 1
MOST_BYTES = 64 * 2**30
MOST_LINE = 16 * 2**20

Name = Field(max_length=300)
Sha = Field(pattern=r"^[0-9a-f]{64}$")


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid")


class ToldSkeleton(_Part):
    name: str = Name
    digest: str = Sha
    joints: int


class ToldProfile(_Part):
    name: str = Name
    names: list[str]
    roles: dict[str, str]
    groups: dict[str, list[str]]


class ToldRecipe(_Part):
    name: str = Name
    lines: list[dict[str, Any]]
    rate: tuple[int, int] | None


class ToldStored(_Part):
    name: str = Name
    tags: list[str]
    joints: list[str]
    frames: int
    state: str = Sha
    picture: dict[str, Any]


class ToldTake(_Part):
    """A take, and where its file lies in the zip."""

    id: int
    name: str = Name
    file: str
    file_name: str = Name
    state: str = Sha
    skeleton: str = Sha
    rate: tuple[int, int]
    frames: int
    joints: int
    channels: int
    keys: int
    notes: list[str]
    warnings: list[str]
    picture: dict[str, Any]


class ToldRevision(_Part):
    id: int
    take: int | None
    parent: int | None
    number: int
    lines: list[str]
    state: str = Sha
    before: str | None
    take_state: str | None
    cause: str = Field(max_length=200)
    report: dict[str, Any]
    author: str
    created: datetime


class ToldClip(_Part):
    id: int
    take: int
    name: str = Name
    camera: dict[str, Any] | None
    head: int
    tip: int
    chosen: list[str] = []
    revisions: list[ToldRevision]


class ToldDelivery(_Part):
    clip: int
    revision: int
    file: str
    file_name: str = Field(max_length=160)
    report: dict[str, Any]


class ToldState(_Part):
    """A state: its header, its tracks' digests one after another, and how it was made."""

    header: str = Sha
    manifest: str = Field(pattern=r"^([0-9a-f]{64})*$")
    keys: int
    before: str | None
    with_take: str | None
    line: str
    ms: float | None
    pruned: bool


class Told(_Part):
    """All that ``workspace.json`` says."""

    what: str
    version: int
    application: str
    name: str = Name
    skeletons: list[ToldSkeleton]
    profiles: list[ToldProfile]
    recipes: list[ToldRecipe]
    stored: list[ToldStored] = []
    takes: list[ToldTake]
    clips: list[ToldClip]
    deliveries: list[ToldDelivery]
    states: dict[str, ToldState]


def blob_names(file: zipfile.ZipFile) -> list[str]:
    """The digests of the blobs that a workspace's file holds."""
    return [n.removeprefix("blobs/") for n in file.namelist() if n.startswith("blobs/")]


def checked(source: Path, progress: Progress = silent) -> Told:
    """What a workspace's file says, all of it looked at; :class:`BadInput` says what is wrong."""
    try:
        with zipfile.ZipFile(source) as file:
            return _checked(file, progress)
    except (zipfile.BadZipFile, OSError, EOFError, LookupError, TypeError, ValueError) as trouble:
        raise BadInput(
            f"this is no workspace's file, or it is damaged: {short(str(trouble))}"
        ) from None
    except zlib.error:
        raise BadInput("this is no workspace's file, or it is damaged") from None


def _checked(file: zipfile.ZipFile, progress: Progress) -> Told:
    if sum(info.file_size for info in file.infolist()) > MOST_BYTES:
        raise BadInput(f"the file unpacks to more than {MOST_BYTES // 2**30} GB")
    try:
        told = Told.model_validate_json(file.read("workspace.json"))
    except ValidationError as trouble:
        first = trouble.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise BadInput(f"workspace.json: {short(where)}: {short(first['msg'])}") from None
    if (told.what, told.version) != (WHAT, VERSION):
        raise BadInput(f"expected a {WHAT} of version {VERSION}")
    _check_references(told)
    names = blob_names(file)
    there = set(names)

    def blob(sha: str) -> bytes:
        if sha not in there:
            raise BadInput(f"a part of a document is missing: {short(sha, 12)}")
        return file.read(f"blobs/{sha}")

    for k, sha in enumerate(names):
        progress(0.5 * k / len(names))
        if hashlib.sha256(blob(sha)).hexdigest() != sha:
            raise BadInput(f"a part of a document is damaged: {short(sha, 12)}")
    _check_states(told, blob)
    lines = {x for c in told.clips for r in c.revisions for x in r.lines}
    lines |= {s.line for s in told.states.values() if s.line}
    for sha in lines:
        unpacker = zlib.decompressobj()
        _check_line(orjson.loads(unpacker.decompress(blob(sha), MOST_LINE)))
    for recipe in told.recipes:
        for line in recipe.lines:
            _check_line(line)
    for part in (*told.takes, *told.deliveries):
        file.getinfo(part.file)
    return told


def _check_line(line: Any) -> None:
    try:
        checked_line(line["operation"], line["params"], line["scope"], line["version"])
    except (KeyError, TypeError):
        raise BadInput("a line of a recipe is none") from None


def _check_references(told: Told) -> None:
    takes, skeletons = {t.id for t in told.takes}, {s.digest for s in told.skeletons}
    known = set(told.states)
    named: set[str | None] = {t.state for t in (*told.takes, *told.stored)}
    named |= {state for clip in told.clips for state in clip.chosen}
    for state in told.states.values():
        named |= {state.before, state.with_take}
    fine = all(t.skeleton in skeletons for t in told.takes)
    for clip in told.clips:
        ids = {r.id for r in clip.revisions}
        fine = fine and clip.take in takes and {clip.head, clip.tip} <= ids
        for r in clip.revisions:
            named |= {r.state, r.before, r.take_state}
            fine = fine and r.take in takes | {None} and r.parent in ids | {None}
            fine = fine and (r.parent is None or r.parent < r.id)
    made = {(c.id, r.id) for c in told.clips for r in c.revisions}
    fine = fine and all((d.clip, d.revision) in made for d in told.deliveries)
    if not fine or not named - {None} <= known:
        raise BadInput("workspace.json: something in it refers to what is not there")


def _check_states(told: Told, blob: Callable[[str], bytes]) -> None:
    """Every document is what its name says, and one that a clip may be: each header and each
    channel is looked at once."""
    headers: dict[str, dict[str, Any]] = {}
    curves: dict[str, Curve] = {}
    for name, state in told.states.items():
        raw = bytes.fromhex(state.manifest)
        if hashlib.sha256(state.header.encode() + raw).hexdigest() != name:
            raise BadInput(f"a document is not what its name says: {short(name, 12)}")
        digests = [state.manifest[k : k + 64] for k in range(0, len(state.manifest), 64)]
        known = headers.get(state.header)
        header = known or upgraded(orjson.loads(blob(state.header)))[0]
        tracks = tracks_of(header)
        require_room(1, len(tracks), int(header["frames"]))
        if len(digests) != len(tracks):
            raise BadInput(f"a document has other tracks than it says: {short(name, 12)}")
        headers[state.header] = header
        if state.pruned:
            continue
        for sha in digests:
            if sha not in curves:
                curves[sha] = decode(blob(sha))
                require_sound_curve(curves[sha], "a document's channel")
            curve = curves[sha]
            if isinstance(curve, SampledCurve) and len(curve.values) != int(header["frames"]):
                raise BadInput(f"a channel is not as long as its clip: {short(sha, 12)}")
        if known is None:
            own = upgraded(orjson.loads(blob(state.header)))[1]
            bones = own if own is not None else orjson.loads(blob(header["skeleton"]))
            whole = {t: curves[sha] for t, sha in zip(tracks, digests, strict=True)}
            require_sound(clip_of(header, skeleton_of(bones), whole))
