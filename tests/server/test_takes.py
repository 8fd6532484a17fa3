"""Files coming in: one job each, progress, cancel, a clear word for what is wrong."""

from __future__ import annotations

import asyncio
import json
import threading
from collections.abc import Callable
from datetime import timedelta
from typing import Any

import pytest
from django.db import connections
from django.db.utils import OperationalError
from django.utils import timezone
from editing import storage
from leancurve.demo import lamp_take
from leancurve.errors import BadInput
from leancurve.formats.clipjson import write_clip
from leancurve.formats.files import READ, TABLE
from leancurve.operations import Cancelled
from leancurve.progress import Progress
from library import jobs, kinds
from library.apart import apart
from library.models import Job, StoredFile, Take, Workspace
from library.parsing import Looked, Wanted, look_at

from tests.core.test_bvh import ROW, file
from tests.core.test_gltf import WAVE, T, walking
from tests.server.conftest import Api
from tests.trials.files import CLOSED, HEADER, MOTION


def work_off() -> None:
    """Do all queued jobs as a worker would, in a thread with connections of its own."""
    from procrastinate.contrib.django import procrastinate_app
    from procrastinate.periodic import PeriodicRegistry

    app = procrastinate_app.current_app
    app = app.with_connector(app.connector.get_worker_connector())
    # What is done every so often is not part of it, whatever the time is.
    app.periodic_registry = PeriodicRegistry()

    async def work() -> None:
        async with app.open_async():
            await app.run_worker_async(
                wait=False, install_signal_handlers=False, listen_notify=False
            )

    def run() -> None:
        try:
            asyncio.run(work())
        finally:
            connections.close_all()

    thread = threading.Thread(target=run)
    thread.start()
    thread.join(60)
    assert not thread.is_alive()


@pytest.mark.django_db(transaction=True)
def test_files_come_in_one_job_each_and_a_bad_one_harms_no_other(
    api: Api, workspace: Workspace, short_file: bytes
) -> None:
    lamp = write_clip(lamp_take().clip)
    out = api.upload(
        workspace, walk__bvh=short_file, bad__bvh=file([ROW, ROW.replace("20", "nan")]),
        lamp__json=lamp, notes__txt=b"hello", empty__bvh=file([]),
    ).json()  # fmt: skip
    assert [j["title"] for j in out["jobs"]] == ["walk.bvh", "bad.bvh", "lamp.json", "empty.bvh"]
    assert out["refused"] == [
        {
            "name": "notes.txt",
            "detail": f"notes.txt: expected a file ending in {', '.join(READ)} or {TABLE}",
        }
    ]
    assert {j["state"] for j in out["jobs"]} == {"queued"}
    work_off()
    states = {j.title: j for j in Job.objects.all()}
    assert states["walk.bvh"].state == states["lamp.json"].state == "done"
    assert states["bad.bvh"].message == "bad.bvh, line 20: expected a finite number, found 'nan'"
    assert "no frames of motion" in states["empty.bvh"].message
    takes = api.get(f"workspaces/{workspace.pk}/takes").json()
    assert {t["file_name"] for t in takes} == {"lamp.json", "walk.bvh"}
    walk = next(t for t in takes if t["file_name"] == "walk.bvh")
    assert (walk["frames"], walk["joints"], walk["rate"]) == (200, 65, [60, 1])
    assert walk["findings"]["alternate"] > 0
    assert len(walk["picture"]["figures"]) == 7
    assert {s.name for s in StoredFile.objects.all()} == {"walk.bvh", "lamp.json"}
    shown = api.get(f"workspaces/{workspace.pk}/jobs").json()
    assert {j["title"] for j in shown} == {"bad.bvh", "empty.bvh"}
    failed = states["bad.bvh"].pk
    assert api.call("DELETE", f"jobs/{failed}").status_code == 204
    assert api.get(f"jobs/{failed}").status_code == 404


def two_animations() -> bytes:
    b, at = walking()
    b.move(b.animation("nod"), at["Head"], "rotation", T[:20], WAVE[:20])
    return b.glb()


@pytest.mark.django_db(transaction=True)
def test_each_animation_of_a_file_is_a_take_of_its_own(api: Api, workspace: Workspace) -> None:
    api.upload(workspace, crew__glb=two_animations())
    work_off()
    listed = {t["name"]: t for t in api.get(f"workspaces/{workspace.pk}/takes").json()}
    assert {n: (t["frames"], t["of_its_file"]) for n, t in listed.items()} == {
        "walk": (61, 2), "nod": (20, 2),
    }  # fmt: skip
    job = Job.objects.get()
    assert set(job.result["takes"]) == {t["id"] for t in listed.values()}
    # An import that is begun again, as after a worker was killed, finds them.
    assert kinds.KINDS["import"].work(job, lambda _: None) == job.result
    assert (Take.objects.count(), StoredFile.objects.count()) == (2, 1)
    # They are binned one by one; the file goes with the last of them.
    assert api.call("DELETE", f"takes/{listed['walk']['id']}").status_code == 204
    (left,) = api.get(f"workspaces/{workspace.pk}/takes").json()
    assert (left["name"], left["of_its_file"]) == ("nod", 1)
    storage.forget_take(Take.objects.get(pk=listed["walk"]["id"]))
    assert StoredFile.objects.count() == 1
    clip = api.post(f"takes/{left['id']}/clip", {}).json()
    clip = api.apply(clip, "thin")
    assert clip["head"]["number"] == 2
    storage.bin_take(Take.objects.get())
    storage.forget_take(Take.objects.get())
    assert not StoredFile.objects.exists()


@pytest.mark.django_db(transaction=True)
def test_a_gltf_comes_in_with_the_buffer_that_was_dropped_with_it(
    api: Api, workspace: Workspace, short_file: bytes
) -> None:
    b, _ = walking()
    document = b.document()
    document["buffers"][0]["uri"] = "motion.bin"
    text = json.dumps(document).encode()
    out = api.upload(
        workspace, crew__gltf=text, motion__bin=bytes(b.binary), walk__bvh=short_file
    ).json()
    assert ({j["title"] for j in out["jobs"]}, out["refused"]) == ({"crew.zip", "walk.bvh"}, [])
    work_off()
    takes = api.get(f"workspaces/{workspace.pk}/takes").json()
    assert {(t["file_name"], t["frames"]) for t in takes} == {("crew.zip", 61), ("walk.bvh", 200)}
    out = api.upload(workspace, crew__gltf=text).json()
    work_off()
    message = Job.objects.get(pk=out["jobs"][0]["id"]).message
    assert message == "crew.gltf: it needs motion.bin, which did not come with it"


@pytest.mark.django_db(transaction=True)
def test_a_file_with_more_takes_than_there_is_room_for_comes_in_as_none(
    api: Api, workspace: Workspace
) -> None:
    Workspace.objects.update(most_takes=1)
    api.upload(workspace, crew__glb=two_animations())
    work_off()
    assert "more takes than the workspace has room for: 1 in all" in Job.objects.get().message
    assert not Take.objects.exists()
    assert not StoredFile.objects.exists()


@pytest.mark.django_db(transaction=True)
def test_the_file_is_kept_byte_for_byte(api: Api, workspace: Workspace, short_file: bytes) -> None:
    api.upload(workspace, walk__bvh=short_file)
    work_off()
    assert bytes(Take.objects.get().file.data) == short_file


@pytest.mark.django_db(transaction=True)
def test_a_job_cancelled_while_it_waits_is_never_done(
    api: Api, workspace: Workspace, short_file: bytes
) -> None:
    job = api.upload(workspace, walk__bvh=short_file).json()["jobs"][0]
    assert api.call("DELETE", f"jobs/{job['id']}").status_code == 409
    assert api.post(f"jobs/{job['id']}/cancel").json()["state"] == "cancelled"
    work_off()
    assert Job.objects.get().state == "cancelled"
    assert not Take.objects.exists()


def test_a_job_cancelled_while_it_runs_stops_at_its_next_report(
    workspace: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    reported: list[float] = []

    def slow(job: Job, report: Callable[[float], None]) -> dict:
        for k in range(10):
            reported.append(k / 10)
            report(k / 10)
            if k == 3:
                jobs.cancel(job)
        return {}

    monkeypatch.setitem(kinds.KINDS, "slow", kinds.Kind(slow, 60))
    monkeypatch.setattr(kinds, "REPORT_EVERY_S", 0)
    job = Job.objects.create(workspace=workspace, kind="slow", title="slow")
    kinds.run(job.pk)
    job.refresh_from_db()
    assert (job.state, len(reported)) == ("cancelled", 5)
    assert job.progress == pytest.approx(0.4)


def test_an_error_of_ours_is_logged_and_said_without_detail(
    workspace: Workspace, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    def fails(job: Job, report: object) -> dict:
        raise ZeroDivisionError("secret")

    monkeypatch.setitem(kinds.KINDS, "fails", kinds.Kind(fails, 60))
    job = Job.objects.create(workspace=workspace, kind="fails", title="x")
    kinds.run(job.pk)
    job.refresh_from_db()
    assert job.state == "failed"
    assert f"job {job.pk}" in job.message
    assert "secret" not in job.message
    assert "ZeroDivisionError" in caplog.text


@pytest.mark.django_db(transaction=True)
def test_a_killed_workers_job_is_taken_up_again(
    api: Api, workspace: Workspace, short_file: bytes
) -> None:
    from django.db import connection

    job = api.upload(workspace, walk__bvh=short_file).json()["jobs"][0]
    # As a worker leaves it that was killed in the middle: doing, its heartbeat long ago.
    with connection.cursor() as cursor:
        cursor.execute(
            "INSERT INTO procrastinate_workers (last_heartbeat) VALUES (%s) RETURNING id",
            [timezone.now() - timedelta(hours=1)],
        )
        worker = cursor.fetchone()[0]
        cursor.execute(
            "UPDATE procrastinate_jobs SET status = 'doing', worker_id = %s WHERE status = 'todo'",
            [worker],
        )
    Job.objects.update(state="running", progress=0.5)
    work_off()
    assert Job.objects.get().state == "running"
    assert jobs.retry_stalled() == 1
    work_off()
    assert Job.objects.get(pk=job["id"]).state == "done"
    assert Take.objects.count() == 1
    kinds.run(job["id"])
    assert Take.objects.count() == 1


@pytest.mark.django_db(transaction=True)
def test_a_job_whose_database_goes_away_is_taken_up_again(
    api: Api, workspace: Workspace, short_file: bytes, monkeypatch: pytest.MonkeyPatch
) -> None:
    api.upload(workspace, walk__bvh=short_file)
    kind, away = kinds.KINDS["import"], [False, True, True]

    def failing(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
        if away.pop():
            raise OperationalError("server closed the connection unexpectedly")
        return kind.work(job, report)

    monkeypatch.setitem(kinds.KINDS, "import", kinds.Kind(failing, 60))
    jobs.run_queued(job_id=Job.objects.get().pk)
    assert Job.objects.get().state == "done"
    assert Take.objects.count() == 1


@pytest.mark.django_db(transaction=True)
def test_a_job_that_has_left_the_queue_is_queued_again(
    api: Api, workspace: Workspace, short_file: bytes
) -> None:
    """The queue took a job for failed, whose own end could not be written any more."""
    from django.db import connection

    api.upload(workspace, walk__bvh=short_file)
    with connection.cursor() as cursor:
        cursor.execute("UPDATE procrastinate_jobs SET status = 'failed' WHERE status = 'todo'")
    Job.objects.update(state="running", progress=0.5)
    assert jobs.retry_stalled() == 0  # one that was made just now may be on its way
    Job.objects.update(created=timezone.now() - timedelta(minutes=2))
    assert jobs.retry_stalled() == 1
    assert jobs.retry_stalled() == 0
    work_off()
    assert Job.objects.get().state == "done"


def test_a_file_over_the_limit_is_refused_by_name(
    api: Api, workspace: Workspace, settings: object
) -> None:
    settings.UPLOAD_BYTES = 1000
    out = api.upload(workspace, big__bvh=b"x" * 2000, small__bvh=b"x").json()
    assert out["refused"][0]["detail"].startswith("big.bvh: 0 MB; at most")
    assert len(out["jobs"]) == 1


def test_reading_stops_at_its_memory_limit_and_when_cancelled(
    settings: object, short_file: bytes
) -> None:
    def stop(_share: float) -> None:
        raise Cancelled

    assert looked_at_apart(short_file, "walk.bvh", lambda _: None)[0].frames == 200
    settings.INTAKE_MEMORY_BYTES = 64 * 2**20
    with pytest.raises(BadInput, match=r"walk\.bvh: .*memory"):
        looked_at_apart(short_file, "walk.bvh", lambda _: None)
    settings.INTAKE_MEMORY_BYTES = 6 * 2**30
    with pytest.raises(Cancelled):
        looked_at_apart(short_file * 60, "walk.bvh", stop)


def test_takes_can_be_renamed_and_opened_again_as_the_same_clip(api: Api, take: Take) -> None:
    assert (
        api.call("PATCH", f"takes/{take.pk}", {"name": "Walk, best"}).json()["name"] == "Walk, best"
    )
    assert api.call("PATCH", f"takes/{take.pk}", {"name": ""}).status_code == 422
    assert api.get(f"takes/{take.pk}").json()["clip"] is None
    first = api.post(f"takes/{take.pk}/clip").json()
    assert api.post(f"takes/{take.pk}/clip").json()["id"] == first["id"]
    assert api.get(f"takes/{take.pk}").json()["clip"] == first["id"]


def looked_at_apart(data: bytes, name: str, check: Progress) -> list[Looked]:
    return apart(look_at, (data, name, Wanted()), name, check)


LARGE = {
    "braces before anything": (b"{" * 10**7, "expected HIERARCHY"),
    "braces in a joint": (HEADER + b"} " * 10**7, "no open block"),
    "open braces on one line": (HEADER + b"{ " * 10**7, "expected JOINT"),
    "blank lines before the motion": (HEADER + b"\n" * 10**7, "not closed"),
    "blank lines for a frame count": (CLOSED + b"\r\n" * 10**7, "expected 'Frames:'"),
    "spaces for a frame count": (CLOSED + b" " * 10**7, "expected 'Frames:'"),
    "frames that are not there": (
        CLOSED.replace(b"1 Yposition", b"0") + b"Frames: 20000000\nFrame Time: 0.01\n",
        "20,000,000 frames; at most",
    ),
    "a name of ten million letters": (b"HIERARCHY\nROOT " + b"n" * 10**7, "characters; at most"),
}


@pytest.mark.parametrize("kind", LARGE)
def test_a_large_file_of_nothing_is_refused_in_little_memory(settings: object, kind: str) -> None:
    """A quarter of a gigabyte beside what the libraries map, and a message that is not of time or
    memory: what is wrong is found early."""
    data, says = LARGE[kind]
    settings.INTAKE_MEMORY_BYTES = mapped() + 2**28
    settings.INTAKE_SECONDS = 60
    with pytest.raises(BadInput, match=says) as refused:
        looked_at_apart(data, "large.bvh", lambda _: None)
    assert len(str(refused.value)) < 400


def test_a_motion_of_blank_lines_is_read_in_little_memory(settings: object) -> None:
    blank = b"\n" * 2 * 10**7
    settings.INTAKE_MEMORY_BYTES = mapped() + 6 * len(blank)
    rows = b"1.0\n" + blank + b"2.0\n"
    data = MOTION + rows
    assert looked_at_apart(data, "blank.bvh", lambda _: None)[0].frames == 2


def mapped() -> int:
    """Bytes of address space that a process with the readers loaded has."""
    import subprocess
    import sys

    told = "import library.parsing; print(open('/proc/self/statm').read().split()[0])"
    out = subprocess.run([sys.executable, "-c", told], capture_output=True, text=True, check=True)
    return int(out.stdout) * 4096
