"""What a preview computed is found again by whichever process writes it."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pytest
from editing import patches
from leancurve.curves.curve import SampledCurve
from leancurve.document.track import base_track
from leancurve.operations import Patch

TRACK = base_track(0, "rx")


def patch_of(size: int) -> Patch:
    return Patch(curves={TRACK: SampledCurve(np.arange(size, dtype=float))})


@pytest.fixture
def folder(settings: object, tmp_path: Path) -> Path:
    patches.forget()
    settings.COMPUTERS, settings.SCRATCH_DIR = 2, tmp_path / "scratch"
    settings.SCRATCH_BYTES = 100_000
    return settings.SCRATCH_DIR


def test_another_process_finds_it(folder: Path) -> None:
    patches.keep("worked", patch_of(50), 1.0)
    patches.keep("in no time", patch_of(50), 0.001)
    patches.forget()
    there = patches.found("worked")
    assert there is not None
    assert np.array_equal(there.curves[TRACK].values, np.arange(50))
    assert patches.found("in no time") is None
    assert folder.stat().st_mode & 0o77 == 0


def test_the_files_together_weigh_no_more_than_they_may(folder: Path) -> None:
    for k in range(6):
        patches.keep(f"no {k}", patch_of(3000), 1.0)
        os.utime(patches._file(f"no {k}"), (k, k))
    kept = sorted(folder.iterdir())
    assert kept == [patches._file(f"no {k}") for k in (2, 3, 4, 5)]
    patches.keep("heavier than all", patch_of(20_000), 1.0)
    assert not patches._file("heavier than all").exists()


def test_a_folder_that_cannot_be_written_costs_nothing_else(folder: Path) -> None:
    folder.parent.joinpath("scratch").write_text("a file where the folder should be")
    patches.keep("worked", patch_of(50), 1.0)
    assert patches.found("worked") is not None
    patches.forget()
    assert patches.found("worked") is None


def test_a_file_cut_short_is_as_none(folder: Path) -> None:
    patches.keep("worked", patch_of(50), 1.0)
    file = patches._file("worked")
    file.write_bytes(file.read_bytes()[:40])
    patches.forget()
    assert patches.found("worked") is None
