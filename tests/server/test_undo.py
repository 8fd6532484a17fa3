"""Undo is the identity, of every operation, on a clip that carries everything at once."""

from __future__ import annotations

from typing import Any

import pytest
from editing.models import Clip, Revision
from leancurve.document.clip import Clip as Document
from leancurve.formats.clipjson import write_clip
from leancurve.operations import OPERATIONS
from library.intake import store_take
from library.models import StoredFile, Take, Workspace

from tests.core.laden import Load, laden
from tests.core.test_continuity_of_operations import GIVEN
from tests.core.test_together import SPEC
from tests.server.conftest import Api, looked_at


@pytest.fixture
def take(workspace: Workspace) -> Take:
    data = write_clip(laden(Load("mixed")))
    stored = StoredFile.objects.create(
        workspace=workspace, name="laden.json", data=data, size=len(data)
    )
    return store_take(workspace, stored, looked_at(data, "laden.json"))


def state_of(clip: dict[str, Any]) -> str:
    return str(Revision.objects.get(pk=clip["head"]["id"]).state_id)


def test_undo_of_every_operation_is_the_identity(
    api: Api, clip: dict[str, Any], document: Document
) -> None:
    """And redo of it: the very documents, whatever was asked of the clip in between."""
    assert len(document.layers) > 5
    assert document.plants
    assert document.props
    start, done = state_of(clip), set()
    for name, kind in OPERATIONS.items():
        if name in ("read", "retarget"):
            continue  # the first line of every recipe, one of them
        inputs = {n: start for n, i in kind.inputs.items() if i.kind == "clip"}
        line = {"operation": name, "params": {**GIVEN.get(name, {}), **SPEC.get(name, {})},
                "inputs": inputs or None}  # fmt: skip
        answer = api.write(clip, append=line)
        if answer.status_code == 422:
            continue
        assert answer.status_code == 200, (name, answer.content)
        after = answer.json()
        undone = api.post(f"clips/{clip['id']}/undo", {"revision": after["head"]["id"]}).json()
        assert state_of(undone) == start, name
        redone = api.post(f"clips/{clip['id']}/redo", {"revision": undone["head"]["id"]}).json()
        assert state_of(redone) == state_of(after), name
        clip = api.post(f"clips/{clip['id']}/undo", {"revision": redone["head"]["id"]}).json()
        if state_of(after) != start:
            done.add(name)
    assert len(done) > 30, sorted(set(OPERATIONS) - done)
    assert Clip.objects.get(pk=clip["id"]).head.parent is None
