"""A workspace as a file and back: it opens, replays and delivers the same bytes."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Callable
from datetime import timedelta
from io import BytesIO, StringIO
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import CommandError, call_command
from documents.blobs import keep_lines
from documents.models import Blob, State
from editing import patches, storage
from editing.models import Chosen, Clip, Memo, Recipe, Revision, StoredMotion
from editing.recipes import replay
from editing.sweeping import sweep
from leancurve.errors import BadInput
from library import jobs
from library.models import Job, StoredFile, Take, Workspace
from place import moving
from place.checking import Most, checked

from tests.server.conftest import Api, arrays
from tests.server.test_deliveries import body
from tests.server.test_storage import forget_caches


def delivered(api: Api, clip: dict, version: int) -> bytes:
    job = api.post(f"clips/{clip['id']}/deliveries", body(clip, version=version)).json()
    jobs.run(job["id"])
    made = Job.objects.get(pk=job["id"]).result["delivery"]
    return api.get(f"deliveries/{made}/file").content


@pytest.fixture
def worked(api: Api, clip: dict, workspace: Workspace) -> dict:
    """A clip with a history: a branch, a delivery, a kept recipe, a placed camera."""
    clip = api.apply(clip, "unflip")
    clip = api.apply(clip, "smooth")
    clip = api.post(f"clips/{clip['id']}/undo", {"revision": clip["head"]["id"]}).json()
    clip = api.apply(clip, "thin", tolerance_deg=1)
    line = {"operation": "thin", "params": {"tolerance_deg": 2}}
    api.post(f"workspaces/{workspace.pk}/recipes", {"name": "short", "lines": [line]})
    camera = {"position": [0, 1, 2], "target": [0, 0, 0], "fov": 40}
    api.call("PUT", f"clips/{clip['id']}/camera", camera)
    stored = {"revision": clip["head"]["id"], "name": "a step", "first": 4, "last": 20}
    motion = api.post(f"clips/{clip['id']}/stored", stored).json()
    line = {"operation": "load_layer", "params": {"name": "step"}, "scope": {},
            "inputs": {"source": motion["state"]}}  # fmt: skip
    clip = api.write(api.get(f"clips/{clip['id']}").json(), append=line).json()
    delivered(api, clip, 1)
    return api.get(f"clips/{clip['id']}").json()


def forget_everything() -> None:
    """As another instance would find it: nothing is there but people."""
    for take in Take.objects.all():
        storage.forget_take(take)
    StoredMotion.objects.all().delete()
    Workspace.objects.all().delete()
    StoredFile.objects.all().delete()
    Memo.objects.all().delete()
    State.objects.all().delete()
    Blob.objects.all().delete()
    forget_caches()
    patches.forget()


@pytest.fixture
def file(worked: dict, workspace: Workspace, tmp_path: Path) -> Path:
    target = tmp_path / "crew.zip"
    call_command("export_workspace", "Crew", str(target), stdout=StringIO())
    return target


def test_it_opens_replays_and_delivers_the_same_bytes_elsewhere(
    api: Api, worked: dict, file: Path
) -> None:
    path, head = f"clips/{worked['id']}", worked["head"]["id"]
    poses = arrays(api.get(f"{path}/poses?revision={head}"))
    keys = api.get(f"{path}/keys?revision={head}").content
    history = [(h["number"], h["cause"]) for h in api.get(f"{path}/history").json()]
    sent = delivered(api, worked, 7)
    uploaded = bytes(StoredFile.objects.get(take__isnull=False).data)
    forget_everything()
    told = StringIO()
    call_command("import_workspace", str(file), owner="mate", stdout=told)
    assert "'Crew'" in told.getvalue()
    back = api.get(f"clips/{Clip.objects.get().pk}").json()
    path, head = f"clips/{back['id']}", back["head"]["id"]
    again = arrays(api.get(f"{path}/poses?revision={head}"))
    assert all((again[n] == poses[n]).all() for n in poses)
    assert api.get(f"{path}/keys?revision={head}").content == keys
    assert [(h["number"], h["cause"]) for h in api.get(f"{path}/history").json()] == history
    assert back["camera"] == worked["camera"]
    revision = Revision.objects.get(pk=head)
    assert replay(Take.objects.get().state, revision.recipe)[-1].state.hash == revision.state_id
    assert delivered(api, back, 7) == sent
    assert bytes(StoredFile.objects.get(take__isnull=False).data) == uploaded
    assert [r.name for r in Recipe.objects.all()] == ["short"]
    motion = StoredMotion.objects.get()
    assert (motion.name, motion.frames) == ("a step", 17)
    # A line works with it: it stays for as long as the clip does.
    assert Chosen.objects.get().state_id == motion.state_id
    assert len(api.get(f"{path}/deliveries").json()) == 2
    # Undo and redo lead where they led.
    undone = api.post(f"{path}/undo", {"revision": head}).json()
    assert undone["head"]["cause"] == "Thin within 1°"
    assert api.post(f"{path}/redo", {"revision": undone["head"]["id"]}).status_code == 200


def test_beside_what_is_there_it_gets_another_name(api: Api, worked: dict, file: Path) -> None:
    call_command("import_workspace", str(file), owner="mate", stdout=StringIO())
    assert [w.name for w in Workspace.objects.order_by("pk")] == ["Crew", "Crew 2"]
    assert Clip.objects.count() == 2
    one, two = Clip.objects.order_by("pk")
    assert one.head.state_id == two.head.state_id
    assert [w["name"] for w in api.get("session").json()["workspaces"]] == ["Crew", "Crew 2"]


def test_what_is_in_the_bin_stays_there(
    api: Api, worked: dict, workspace: Workspace, tmp_path: Path
) -> None:
    api.call("DELETE", f"clips/{worked['id']}")
    call_command("export_workspace", "Crew", str(tmp_path / "crew.zip"), stdout=StringIO())
    said = checked(tmp_path / "crew.zip", Most())
    assert (len(said.takes), len(said.clips), len(said.deliveries)) == (1, 0, 0)


def changed(source: Path, target: Path, change: Callable[[str, bytes], bytes | None]) -> Path:
    with zipfile.ZipFile(source) as old, zipfile.ZipFile(target, "w") as new:
        for name in old.namelist():
            data = change(name, old.read(name))
            if data is not None:
                new.writestr(name, data)
    return target


def in_text(edit: Callable[[dict[str, Any]], Any]) -> Callable[[str, bytes], bytes]:
    def change(name: str, data: bytes) -> bytes:
        if name != "workspace.json":
            return data
        said = json.loads(data)
        edit(said)
        return json.dumps(said).encode()

    return change


def first_blob(name: str, data: bytes) -> bytes:
    return data[:-1] + bytes([data[-1] ^ 1]) if name.startswith("blobs/") else data


BROKEN: dict[str, tuple[Callable[[str, bytes], bytes | None], str]] = {
    "a changed part": (first_blob, "part of a document is damaged"),
    "a missing part": (lambda n, d: None if n.startswith("blobs/") else d, "is missing"),
    "no text": (lambda n, d: None if n == "workspace.json" else d, "no workspace's file"),
    "another format": (in_text(lambda s: s.update(version=99)), "of version 1 or 2"),
    "what is not known": (in_text(lambda s: s.update(more=1)), "more"),
    "a clip of no take": (in_text(lambda s: s["clips"][0].update(take=10**6)), "refers to"),
    "a head of none": (in_text(lambda s: s["clips"][0].update(head=10**6)), "refers to"),
    "a document's other name": (
        in_text(lambda s: next(iter(s["states"].values())).update(manifest="00" * 32)),
        "not what its name says",
    ),
    "a line of no operation": (
        in_text(lambda s: s["recipes"][0]["lines"][0].update(operation="conquer")),
        "conquer",
    ),
    "a file that is not there": (
        in_text(lambda s: s["takes"][0].update(file="takes/1/../../etc/passwd")),
        "no workspace's file",
    ),
}


@pytest.mark.parametrize("kind", BROKEN)
def test_what_is_not_whole_changes_nothing(
    worked: dict, file: Path, tmp_path: Path, kind: str
) -> None:
    change, says = BROKEN[kind]
    broken = changed(file, tmp_path / "broken.zip", change)
    with pytest.raises(BadInput, match=says) as refused:
        checked(broken, Most())
    assert len(str(refused.value)) < 400
    with pytest.raises(CommandError):
        call_command("import_workspace", str(broken), stdout=StringIO())
    assert Workspace.objects.count() == 1


def test_a_line_that_unpacks_without_end_is_refused(worked: dict, file: Path) -> None:
    (sha,) = keep_lines([{"operation": "x" * 10**8}])
    data = bytes(Blob.objects.get(pk=sha).data)
    assert len(data) < 10**6

    def edit(said: dict[str, Any]) -> None:
        said["clips"][0]["revisions"][0]["lines"] = [sha]

    bomb = file.with_name("bomb.zip")
    changed(file, bomb, in_text(edit))
    with zipfile.ZipFile(bomb, "a") as more:
        more.writestr(f"blobs/{sha}", data)
    with pytest.raises(BadInput):
        checked(bomb, Most())


def test_the_browser_exports_and_brings_in(api: Api, worked: dict, workspace: Workspace) -> None:
    job = api.post(f"workspaces/{workspace.pk}/export").json()
    jobs.run(job["id"])
    got = api.get(f"jobs/{job['id']}/file")
    assert got["Content-Disposition"] == 'attachment; filename="Crew.leanspace.zip"'
    assert zipfile.ZipFile(BytesIO(got.content)).testzip() is None

    def send(data: bytes) -> Any:
        return api.client.post(
            "/api/place/workspaces/files",
            {"file": SimpleUploadedFile("crew.zip", data)},
            headers={"X-CSRFToken": api.token},
        )

    assert send(got.content).status_code == 404  # for whoever runs the place
    User.objects.filter(username="mate").update(is_staff=True)
    sent = send(got.content).json()
    jobs.run(sent["id"])
    assert Job.objects.get(pk=sent["id"]).result["name"] == "Crew 2"
    wrong = send(b"PK nothing").json()
    jobs.run(wrong["id"])
    failed = api.get("place").json()["coming_in"][0]
    assert failed["state"] == "failed"
    assert "no workspace's file" in failed["message"]
    left = api.call("DELETE", f"place/jobs/{failed['id']}").json()["coming_in"]
    assert [j["state"] for j in left] == ["done"]
    # What nobody fetched is gone after a day.
    StoredFile.objects.filter(take=None).update(created="2020-01-01T00:00Z")
    moving.forget_fetched(0)
    assert StoredFile.objects.filter(take=None).count() == 0
    assert api.get(f"jobs/{job['id']}/file").status_code == 404


def test_pruned_states_come_back_by_being_made_again(
    api: Api, worked: dict, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setattr(storage, "NEWEST", 1)
    assert storage.prune(Clip.objects.get(), timedelta(0)) > 0
    sweep(timedelta(0))
    call_command("export_workspace", "Crew", str(tmp_path / "crew.zip"), stdout=StringIO())
    history = api.get(f"clips/{worked['id']}/history").json()
    forget_everything()
    call_command("import_workspace", str(tmp_path / "crew.zip"), owner="mate", stdout=StringIO())
    clip = Clip.objects.get()
    for revision in clip.revisions.all():
        path = f"clips/{clip.pk}/poses?revision={revision.pk}"
        assert api.get(path).status_code == 200, revision.cause
    assert clip.revisions.count() == len(history)
