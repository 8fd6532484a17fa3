"""What all tests share: the demo's takes, made once, and the open captured take where it lies."""

from __future__ import annotations

import lzma
import os
from pathlib import Path

import pytest
from hypothesis import settings
from leancurve.demo import TAKES, captured
from leancurve.demo.defects import Capture
from leancurve.document.clip import Clip
from leancurve.formats.bvh import read_bvh

from tests.times import Times

# Playwright keeps an event loop in the main thread; Django would refuse the ORM there.
os.environ.setdefault("DJANGO_ALLOW_ASYNC_UNSAFE", "true")

PROJECT = Path(__file__).resolve().parent.parent
OPEN_CAPTURE = PROJECT / "tests/data/open_capture_jumps_120fps.bvh.xz"

# The same examples at every run, however long each takes: a suite that is run all the time says the
# same twice.
settings.register_profile("same", derandomize=True, deadline=None)
settings.load_profile("same")


def pytest_configure(config: pytest.Config) -> None:
    """The process that gathers what all others report says where the time went."""
    if not hasattr(config, "workerinput") and not config.option.collectonly:
        config.pluginmanager.register(Times(), "times")


ORDER = ("server", "e2e", "core")
"""Playwright's event loop, once begun, would be in the way of the server's tests; the core's many
short files come last, so that all processes end at about the same time."""


def in_turn(item: pytest.Item) -> tuple[int, int, str]:
    """The core's long files first; the others as they come: Django's tests that commit stay behind
    all that do not."""
    folder = next((k for k, name in enumerate(ORDER) if name in item.path.parts), len(ORDER))
    if "core" not in item.path.parts:
        return folder, 0, ""
    return folder, -item.path.stat().st_size, str(item.path)


@pytest.hookimpl(trylast=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    items.sort(key=in_turn)


def read_open_capture() -> Clip:
    """A real optical capture, whose source and credit stand beside it."""
    return read_bvh(lzma.decompress(OPEN_CAPTURE.read_bytes()), "open_capture_jumps_120fps").clip


@pytest.fixture(scope="session")
def walk() -> Clip:
    """The shortest of the demo's takes, clean: 900 frames, 65 joints, 198 channels."""
    return TAKES[2].clean()


@pytest.fixture(scope="session")
def captured_walk() -> Capture:
    return captured(TAKES[2])


@pytest.fixture(scope="session")
def open_capture() -> Clip:
    return read_open_capture()
