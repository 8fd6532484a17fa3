"""Deliveries as files of a folder: each proven in a process of its own before it is there, under a
name that no other file has. Beside the command line nothing else of the core writes files."""

from __future__ import annotations

import multiprocessing
import os
import tempfile
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any

from leancurve.delivery.files import (
    MOST_VERSIONS,
    Part,
    groups_of,
    parts_of,
    with_more,
    with_part,
)
from leancurve.delivery.making import Made, Stretch, made_together
from leancurve.delivery.preset import Preset
from leancurve.delivery.proof import Proof, of_all, proven
from leancurve.delivery.report import goes_on
from leancurve.document.clip import Clip
from leancurve.errors import BadInput, short
from leancurve.formats.bvh import Take
from leancurve.formats.names import delivery_name, tidy_name


def proven_apart(file: Made, name: str, clip: Clip) -> Proof:
    """The proof of a file, made in a fresh process: nothing that wrote it can be in the way."""
    fresh = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(1, mp_context=fresh) as pool:
        return pool.submit(proven, file.data, name, clip, file.expected).result()


def deliver_takes(takes: Sequence[Take], preset: Preset, folder: Path) -> list[dict[str, Any]]:
    """Write takes into a folder, and say of each file what reading it back showed; one that cannot
    be written, or is not what it shall be, has its reason instead and is not there."""
    out: list[dict[str, Any]] = []
    for group in groups_of([t.clip for t in takes], preset):
        first, *others = (takes[k] for k in group)
        try:
            parts = parts_of(first.clip, preset)
        except BadInput as trouble:
            out.append({"clip": first.clip.name, "failed": trouble.message, "verified": False})
            continue
        out += [_one(first, others, preset, part, folder) for part in parts]
    return out


def _one(
    take: Take, others: Sequence[Take], preset: Preset, part: Part, folder: Path
) -> dict[str, Any]:
    """A file of a take's part, with other takes whole where it holds several."""
    clip = take.clip
    told: dict[str, Any] = {"clip": clip.name, "verified": False}
    if others:
        told["clips"] = [clip.name, *(t.clip.name for t in others)]
    action = with_more(with_part(tidy_name(clip.name) or "take", part), 1 + len(others))

    def name(version: int) -> str:
        stem = delivery_name(
            preset.pattern, character=tidy_name(clip.skeleton.names[0]) or "figure",
            action=action, version=version,
        )  # fmt: skip
        return stem + preset.ending

    try:
        stretches = [
            Stretch(clip, part.first, part.last),
            *(Stretch(t.clip, 0, max(t.clip.frames - 1, 0)) for t in others),
        ]
        files = made_together(stretches, preset, skin=take.skin)
        proofs = [
            proven_apart(file, name(1), s.clip) for file, s in zip(files, stretches, strict=True)
        ]
        proof = of_all(proofs)
        path = put(files[0].data, folder, name)
    except BadInput as trouble:
        return {**told, "failed": " ".join(trouble.message.split())}
    ends = goes_on(clip, part.first, part.last)
    return {
        **told, "path": str(path), "sha256": proof.sha256, "bytes": proof.bytes,
        "frames": proof.frames, "joints": proof.joints, "keys": proof.keys,
        "max_error_deg": proof.max_deg, "max_error_mm": proof.max_mm, "verified": True,
        "travel_mm": ends["mm"], "turned_deg": ends["deg"],
    }  # fmt: skip


def put(data: bytes, folder: Path, name: Callable[[int], str]) -> Path:
    """Put bytes into a folder, whole or not at all, under the first version that is free."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.NamedTemporaryFile(dir=folder, prefix=".", delete=False) as whole:
            try:
                whole.write(data)
                whole.flush()
                os.fsync(whole.fileno())
                os.fchmod(whole.fileno(), 0o644)
                return _linked(Path(whole.name), folder, name)
            finally:
                with suppress(OSError):
                    os.unlink(whole.name)
    except OSError as trouble:
        raise BadInput(f"{short(str(folder))}: {trouble.strerror or trouble}") from None


def _linked(whole: Path, folder: Path, name: Callable[[int], str]) -> Path:
    seen = ""
    for version in range(1, MOST_VERSIONS + 1):
        path = folder / name(version)
        if path.name == seen:
            break
        seen = path.name
        try:
            # Another one that writes at once cannot be overwritten: a link is made or it is not.
            os.link(whole, path)
        except FileExistsError:
            continue
        return path
    raise BadInput(f"{seen} is there already: choose a pattern with a version, or another folder")
