"""A workspace as a file and back: it opens, replays and delivers the same bytes."""

from __future__ import annotations

import hashlib
import json
import shutil
import uuid
import zipfile
from collections.abc import Callable
from datetime import timedelta
from io import BytesIO, StringIO
from pathlib import Path
from typing import Any

import pytest
from django.apps import apps
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import CommandError, call_command
from documents.blobs import keep_lines
from documents.models import Blob, State
from documents.packing import digest
from editing import patches, storage
from editing.models import (
    Chosen,
    Clip,
    JointMap,
    Memo,
    Recipe,
    Retargeted,
    Revision,
    StoredMotion,
)
from editing.recipes import replay
from editing.sweeping import sweep
from leancurve.errors import BadInput
from library import kinds
from library.models import Job, StoredFile, Take, Workspace
from studio import moving, portable
from studio.checking import Most, checked

from tests.server.conftest import Api, a_take, a_workspace, arrays, somebody
from tests.server.test_deliveries import body
from tests.server.test_storage import forget_caches

OURS = {"delivery", "documents", "editing", "library", "studio"}


def delivered(api: Api, clip: dict, version: int) -> bytes:
    job = api.post(f"clips/{clip['id']}/deliveries", body(clip, version=version)).json()
    kinds.run(job["id"])
    made = Job.objects.get(pk=job["id"]).result["delivery"]
    return api.get(f"deliveries/{made}/file").content


@pytest.fixture(scope="module")
def standing(made_once: None, short_file: bytes) -> int:
    """A clip with a history: a branch, a delivery, a kept recipe, a placed camera."""
    user = somebody()
    workspace, api = a_workspace(user), Api(user)
    clip = api.post(f"takes/{a_take(workspace, short_file).pk}/clip").json()
    clip = api.apply(clip, "unflip")
    clip = api.apply(clip, "smooth")
    clip = api.post(f"clips/{clip['id']}/undo", {"revision": clip["head"]["id"]}).json()
    clip = api.apply(clip, "thin", tolerance_deg=1)
    line = {"operation": "thin", "params": {"tolerance_deg": 2}}
    api.post(f"workspaces/{workspace.pk}/recipes", {"name": "short", "lines": [line]})
    camera = {"position": [0, 1, 2], "target": [0, 0, 0], "fov": 40}
    api.call("PUT", f"clips/{clip['id']}/camera", camera)
    values = {"values": {"format": "glb", "root": "floor"}}
    api.call("PUT", f"workspaces/{workspace.pk}/presets/Engine", values)
    stored = {"revision": clip["head"]["id"], "name": "a step", "first": 4, "last": 20}
    motion = api.post(f"clips/{clip['id']}/stored", stored).json()
    line = {"operation": "load_layer", "params": {"name": "step"}, "scope": {},
            "inputs": {"source": motion["state"]}}  # fmt: skip
    clip = api.write(api.get(f"clips/{clip['id']}").json(), append=line).json()
    delivered(api, clip, 1)
    return int(clip["id"])


@pytest.fixture
def user(standing: int, db: None) -> User:
    return User.objects.get(username="mate")


@pytest.fixture
def workspace(user: User) -> Workspace:
    return user.workspaces.get()


@pytest.fixture
def take(workspace: Workspace) -> Take:
    return workspace.takes.get()


@pytest.fixture
def worked(api: Api, standing: int) -> dict:
    return dict(api.get(f"clips/{standing}").json())


def forget_everything() -> None:
    """As another instance would find it: nothing is there but people."""
    for take in Take.objects.all():
        storage.bin_take(take)
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


def test_every_model_of_the_application_is_exported_or_says_why_not() -> None:
    ours = {m for m in apps.get_models() if m.__module__.split(".")[0] in OURS}
    assert len(ours) > 20
    assert not set(portable.EXPORTED) & set(portable.LEFT_OUT)
    assert set(portable.EXPORTED) | set(portable.LEFT_OUT) == ours
    assert all(why for why in portable.LEFT_OUT.values())


def test_as_many_of_each_exported_model_come_back(
    api: Api, worked: dict, take: Take, workspace: Workspace, tmp_path: Path
) -> None:
    """With a profile, a map between skeletons and a retargeted clip there are some of each."""
    workspace.profiles.create(name="crew", names=["Hips"], roles={"Hips": "hips"}, groups={})
    workspace.joint_maps.create(source=["Hips"], target=["Hips"], joints={"Hips": "Hips"})
    wanted = {"revision": worked["head"]["id"], "targets": [take.pk], "params": {}}
    (job,) = api.post(f"clips/{worked['id']}/retarget", wanted).json()
    kinds.run(job["id"])
    target = tmp_path / "whole.zip"
    call_command("export_workspace", "Crew", str(target), stdout=StringIO())
    call_command("import_workspace", str(target), owner="mate", stdout=StringIO())
    other = Workspace.objects.exclude(pk=workspace.pk).get()
    for model, way in portable.EXPORTED.items():
        here, there = (
            model.objects.filter(**{way: w}).distinct().count() for w in (workspace, other)
        )
        assert here == there > 0, model.__name__


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
    "no text": (lambda n, d: None if n == "workspace.json" else d, "not a workspace file"),
    "another format": (in_text(lambda s: s.update(version=99)), "of version 1 or 2 or 3"),
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
        "not a workspace file",
    ),
}


def in_first(kind: str, **values: Any) -> Callable[[str, bytes], bytes]:
    return in_text(lambda s: s[kind][0].update(**values))


def one_state(pruned: bool, **values: Any) -> Callable[[str, bytes], bytes]:
    """Of the first take's state."""
    return in_text(lambda s: s["states"][s["takes"][0]["state"]].update(pruned=pruned, **values))


def in_a_circle(said: dict[str, Any]) -> None:
    """Two documents that are each made of the other."""
    a, b = list(said["states"])[:2]
    line = next(s["line"] for s in said["states"].values() if s["line"])
    for one, other in ((a, b), (b, a)):
        said["states"][one].update(
            pruned=True, before=other, with_take=said["takes"][0]["state"], line=line
        )


def deep(said: dict[str, Any]) -> None:
    nested: Any = 1
    for _ in range(100):
        nested = [nested]
    said["clips"][0]["revisions"][0]["report"] = {"deep": nested}


BROKEN |= {
    "a picture that is none": (
        in_first("takes", picture={"figures": [[["x"] * 7]]}), "takes.0.picture",
    ),
    "a rate that divides by nothing": (in_first("takes", rate=[60, 0]), "takes.0.rate"),
    "another rate than the take's": (in_first("takes", rate=[61, 1]), "not what is said of it"),
    "more frames than there are": (in_first("takes", frames=10**6), "not what is said of it"),
    "a count no column has room for": (in_first("takes", keys=10**30), "takes.0.keys"),
    "two files in one place": (
        in_text(
            lambda s: s["takes"].append({**s["takes"][0], "id": 999_999, "file_name": "b.bvh"})
        ),
        "is named twice",
    ),
    "a revision twice": (
        in_text(lambda s: s["clips"][0]["revisions"].append(s["clips"][0]["revisions"][0])),
        "is there twice",
    ),
    "a recipe twice": (in_text(lambda s: s["recipes"].append(s["recipes"][0])), "is there twice"),
    "text that no database holds": (
        in_text(lambda s: s.update(name="a\0b")), "not allowed in text",
    ),
    "nested without end": (in_text(deep), "deep"),
    "not a number": (
        lambda n, d: d.replace(b'"fov": 40', b'"fov": NaN') if n == "workspace.json" else d,
        "not a workspace file",
    ),
    "a delivery that reports a program": (
        in_text(lambda s: s["deliveries"][0].update(report={"max_drift_deg": {"a": []}})),
        "deliveries.0.report",
    ),
    "a document given up that nothing makes": (
        one_state(True, before=None, with_take=None, line=""), "cannot be made again",
    ),
    "documents in a circle": (in_text(in_a_circle), "cannot be made again"),
    "what a clip was retargeted from, elsewhere": (
        in_first("takes", retargeted={"source": 10**6, "target": None}), "refers to",
    ),
}  # fmt: skip


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


def added(source: Path, target: Path, **members: bytes) -> Path:
    shutil.copy(source, target)
    with zipfile.ZipFile(target, "a") as more:
        for name, data in members.items():
            more.writestr(name.replace("__", "/"), data, zipfile.ZIP_DEFLATED)
    return target


def test_what_nothing_refers_to_is_refused(worked: dict, file: Path, tmp_path: Path) -> None:
    data = b"nobody's" * 1000
    loose = added(file, tmp_path / "loose.zip", **{f"blobs__{digest(data)}": data})
    with pytest.raises(BadInput, match="nothing in it refers to"):
        checked(loose, Most())
    more = added(file, tmp_path / "more.zip", readme=b"x")
    with pytest.raises(BadInput, match="nothing in it refers to"):
        checked(more, Most())


def test_it_may_hold_no_more_than_a_workspace_may(worked: dict, file: Path) -> None:
    with zipfile.ZipFile(file) as opened:
        held = sum(i.file_size for i in opened.infolist() if i.filename != "workspace.json")
        largest = max(i.file_size for i in opened.infolist() if i.filename.startswith("takes/"))
    assert checked(file, Most(bytes=held))
    with pytest.raises(BadInput, match="a workspace may hold"):
        checked(file, Most(bytes=held - 1))
    with pytest.raises(BadInput, match="larger than a file may be"):
        checked(file, Most(file=largest - 1))
    with pytest.raises(BadInput, match="at most 0"):
        checked(file, Most(takes=0))


def test_a_document_said_to_be_given_up_is_looked_at_all_the_same(
    worked: dict, file: Path, tmp_path: Path
) -> None:
    """A header with numbers that are none, listed first with its curves left out, then whole."""
    with zipfile.ZipFile(file) as opened:
        said = json.loads(opened.read("workspace.json"))
        head = said["clips"][0]["revisions"][-1]["state"]
        state = said["states"][head]
        header = json.loads(opened.read(f"blobs/{state['header']}"))
    header["rate"] = [60, 10**12]
    wrong = json.dumps(header).encode()
    name = hashlib.sha256(digest(wrong).encode() + bytes.fromhex(state["manifest"])).hexdigest()
    line = next(s["line"] for s in said["states"].values() if s["line"])
    first = {**state, "header": digest(wrong), "pruned": True, "before": head, "line": line,
             "with_take": said["takes"][0]["state"], "ms": 1.0}  # fmt: skip

    def edit(told: dict[str, Any]) -> None:
        told["states"] = {name: first, **told["states"]}

    hostile = changed(file, tmp_path / "first.zip", in_text(edit))
    hostile = added(hostile, tmp_path / "hostile.zip", **{f"blobs__{digest(wrong)}": wrong})
    with pytest.raises(BadInput, match="rate"):
        checked(hostile, Most())


def test_nobody_here_becomes_an_author_and_nothing_here_changes(
    api: Api, worked: dict, file: Path, tmp_path: Path
) -> None:
    head = Clip.objects.get().head.state_id
    State.objects.filter(pk=head).update(before=None, with_take=None, line="", ms=None)
    before = {s.pk: (s.before_id, s.line, s.pruned, s.ms) for s in State.objects.all()}
    call_command("import_workspace", str(file), owner="mate", stdout=StringIO())
    after = {s.pk: (s.before_id, s.line, s.pruned, s.ms) for s in State.objects.all()}
    assert after == before
    brought = Clip.objects.order_by("pk").last()
    assert {r.author for r in brought.revisions.all()} == {None}
    assert {r.author.username for r in Clip.objects.first().revisions.all()} == {"mate"}


def test_what_was_set_between_skeletons_and_what_was_retargeted_come_along(
    api: Api, clip: dict, take: Take, workspace: Workspace, tmp_path: Path
) -> None:
    JointMap.objects.create(
        workspace=workspace, source=["Hips", "Spine"], target=["pelvis"], joints={"pelvis": "Hips"},
        chains=[{"source": ["Hips", "Spine"], "target": ["pelvis", "pelvis"]}],
        rest={"pelvis": [0.0, 12.5, 0.0]},
    )  # fmt: skip
    (job,) = api.post(
        f"clips/{clip['id']}/retarget",
        {"revision": clip["head"]["id"], "targets": [take.pk], "params": {}},
    ).json()
    kinds.run(job["id"])
    assert Job.objects.get(pk=job["id"]).state == "done", Job.objects.get(pk=job["id"]).message
    asked = {"revision": clip["head"]["id"], "request_id": str(uuid.uuid4())}
    api.post(f"clips/{clip['id']}/version", asked)
    call_command("export_workspace", "Crew", str(tmp_path / "crew.zip"), stdout=StringIO())
    call_command("import_workspace", str(tmp_path / "crew.zip"), owner="mate", stdout=StringIO())
    new = Workspace.objects.get(name="Crew 2")
    kept = JointMap.objects.get(workspace=new)
    assert (kept.joints, kept.rest) == ({"pelvis": "Hips"}, {"pelvis": [0.0, 12.5, 0.0]})
    version = Retargeted.objects.get(take__workspace=new, target=None)
    assert version.version_of == version.source.clip.take
    made = Retargeted.objects.get(take__workspace=new, version_of=None)
    assert made.source.clip.workspace == made.target.workspace == new
    back = api.get(f"clips/{made.take.worked_on.get().pk}").json()
    assert back["retargeted"]["clip"] == made.source.clip_id

    # A file of an older version says it by an older word.
    def older(said: dict[str, Any]) -> None:
        for told in said["takes"]:
            told["carried"] = told.pop("retargeted")
            if told["carried"]:
                told["carried"].pop("version_of")

    file = changed(tmp_path / "crew.zip", tmp_path / "older.zip", in_text(older))
    call_command("import_workspace", str(file), owner="mate", stdout=StringIO())
    assert Retargeted.objects.filter(take__workspace__name="Crew 3").count() == 2


def test_a_clip_that_lies_on_a_take_in_no_bin_comes_along_with_it(
    api: Api, worked: dict, take: Take, workspace: Workspace, short_file: bytes, tmp_path: Path
) -> None:
    (job,) = api.upload(workspace, second__bvh=short_file).json()["jobs"]
    kinds.run(job["id"])
    other = Job.objects.get(pk=job["id"]).result["take"]
    swapped = api.write(worked, swap=other).json()
    api.call("DELETE", f"takes/{take.pk}")
    call_command("export_workspace", "Crew", str(tmp_path / "crew.zip"), stdout=StringIO())
    call_command("import_workspace", str(tmp_path / "crew.zip"), owner="mate", stdout=StringIO())
    new = Workspace.objects.get(name="Crew 2")
    assert [t["name"] for t in api.get(f"workspaces/{new.pk}/takes").json()] == ["second"]
    brought = api.get(f"clips/{Clip.objects.get(workspace=new).pk}").json()
    assert brought["head"]["number"] == swapped["head"]["number"]
    assert api.get(f"workspaces/{new.pk}/bin").json() == []


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
    kinds.run(job["id"])
    got = api.get(f"jobs/{job['id']}/file")
    assert got["Content-Disposition"] == 'attachment; filename="Crew.leanspace.zip"'
    assert zipfile.ZipFile(BytesIO(got.content)).testzip() is None

    def send(data: bytes) -> Any:
        return api.client.post(
            "/api/studio/workspaces/files",
            {"file": SimpleUploadedFile("crew.zip", data)},
            headers={"X-CSRFToken": api.token},
        )

    assert send(got.content).status_code == 404  # for whoever runs the studio
    User.objects.filter(username="mate").update(is_staff=True)
    sent = send(got.content).json()
    kinds.run(sent["id"])
    assert Job.objects.get(pk=sent["id"]).result["name"] == "Crew 2"
    wrong = send(b"PK nothing").json()
    kinds.run(wrong["id"])
    failed = api.get("studio").json()["coming_in"][0]
    assert failed["state"] == "failed"
    assert "not a workspace file" in failed["message"]
    left = api.call("DELETE", f"studio/jobs/{failed['id']}").json()["coming_in"]
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
