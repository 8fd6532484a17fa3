"""Work within bounds: children and jobs of one person, one workspace and one kind, and the troubles
of a database told apart."""

from __future__ import annotations

import json
import multiprocessing
import pickle
import time
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from computing import pool as pools
from computing.lanes import LONGEST_VIEW, lane_of, newest_of
from computing.pool import Ask, Busy, Pool
from django.db import connection, transaction
from django.db.utils import OperationalError
from django.test import RequestFactory
from django.utils import timezone
from editing import patches
from editing.models import Revision
from leancurve.operations import Patch
from library import job_process, jobs
from library.intake import inspect_missing
from library.job_process import done_apart
from library.models import Job, Take, Workspace
from plumbing.troubles import AWAY, MET, is_away, passing
from procrastinate.contrib.django.models import ProcrastinateJob

from tests.pace import patient
from tests.server.job_processes import dies, ends, hangs, hoards, worker_of_a_hanging_job
from tests.server.test_computing import Asked, obeys, pool_of

# --- the pool -------------------------------------------------------------------------------------


def test_one_person_cannot_fill_a_lane(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pools, "MOST_OF_ONE", {"quick": 2, "whole": 2})
    with pool_of() as pool:
        asked = Asked(pool)
        asked.put("first", Ask(0, "whole", {}, b"work 1.0"))
        for k in range(5):
            asked.put(k, Ask(1, "whole", {}, b"go"))
        asked.put("other", Ask(2, "whole", {}, b"go"))
        outcomes = dict(asked.all())
    assert outcomes["other"] == 200
    assert sorted(map(str, (outcomes[k] for k in range(5)))) == ["200", "200", *[str(Busy)] * 3]


def test_children_that_cannot_be_started_are_tried_again_and_told(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    real, tries = pools.Child, [0]

    def fails(work: Callable[..., None]) -> Any:
        tries[0] += 1
        if tries[0] < 5:
            raise OSError("Resource temporarily unavailable")
        return real(work)

    monkeypatch.setattr(pools, "Child", fails)
    monkeypatch.setattr(pools, "PAUSE_S", 0.2)
    monkeypatch.setattr(pools, "LONGEST_WAIT_S", 0.2)
    pool = Pool(0, 1, obeys)
    try:
        with pytest.raises(Busy):  # nobody waits for ever
            pool.answer(Ask(1, "whole", {}, b"go"))
        until = time.monotonic() + patient(5)
        while pool.begins and time.monotonic() < until:
            time.sleep(0.01)
        assert not pool.begins  # whoever looks after it is told
        monkeypatch.setattr(pools, "LONGEST_WAIT_S", 20.0)
        assert pool.answer(Ask(1, "whole", {}, b"go")).status == 200
        assert pool.begins
    finally:
        pool.close()


@pytest.mark.parametrize(
    "asked",
    [
        {"view": "x" * (LONGEST_VIEW + 1), "sequence": 1},
        {"view": ["x"] * 1000, "sequence": 1},
        {"view": "x", "sequence": 10**400},
        {"view": "x", "sequence": True},
        {"view": "x", "sequence": "1" * 1000},
        {"view": "x", "sequence": 1, "params": "x" * 2**18},
    ],
    ids=str,
)
def test_what_nobody_has_looked_at_is_not_remembered(asked: dict[str, Any]) -> None:
    body = json.dumps(asked)
    request = RequestFactory().post("/api/clips/1/preview", body, content_type="application/json")
    assert newest_of(request) is None


@pytest.mark.parametrize(
    ("method", "path", "lane"),
    [
        ("GET", "/api/clips/1/lines/0aF3/states", "quick"),
        ("POST", "/api/clips/1/stored/7/pose", "quick"),
        ("POST", "/api/clips/1/stored", "quick"),
        ("POST", "/api/clips/1/deliveries", "quick"),
        ("GET", "/api/clips/1/deliveries", None),
        ("POST", "/api/clips/1/retarget", "quick"),
        ("POST", "/api/workspaces/1/retarget", "whole"),
        ("POST", "/api/clips/1/preview/seams", "whole"),
        ("GET", "/api/clips/1/sources", None),
    ],
)
def test_what_computes_leaves_the_web_process(method: str, path: str, lane: str | None) -> None:
    assert lane_of(getattr(RequestFactory(), method.lower())(path)) == lane


class Renamed:
    """As another version's patch: its class is not there any more."""


def test_a_patch_that_other_code_left_is_as_none(
    tmp_path: Path, settings: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    settings.COMPUTERS, settings.SCRATCH_DIR = 1, tmp_path
    key = "a" * 64
    gone = pickle.dumps(Renamed()).replace(b"Renamed", b"Removed")
    lacking = Patch()
    del lacking.__dict__["layers"]
    for data in (gone, pickle.dumps(lacking), pickle.dumps({"no": "patch"}), b"\x80\x05garbage"):
        patches.forget()
        patches._file(key).write_bytes(data)
        assert patches.found(key) is None
    patches.keep(key, Patch(report={"n": 1}), 1.0)
    patches.forget()
    found = patches.found(key)
    assert found is not None
    assert found.report == {"n": 1}
    # An update may leave the version as it is: a preview of before is none of now.
    monkeypatch.setattr(patches, "made_by", lambda: "another")
    patches.forget()
    assert patches.found(key) is None


# --- jobs -----------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("work", "how"), [(ends, "done"), (dies, "lost"), (hangs, "too long"), (hoards, "done")]
)
def test_a_jobs_process_is_bounded(work: Any, how: str) -> None:
    began = time.monotonic()
    assert done_apart(1, 5.0, work) == how
    assert time.monotonic() - began < patient(30)


def test_a_job_ends_with_its_worker() -> None:
    ours, theirs = multiprocessing.get_context("spawn").Pipe()
    worker = multiprocessing.get_context("spawn").Process(
        target=worker_of_a_hanging_job, args=(theirs,)
    )
    worker.start()
    assert ours.poll(60)
    (job,) = ours.recv()
    worker.kill()
    worker.join()
    until = time.monotonic() + patient(20)
    while Path(f"/proc/{job}").exists() and time.monotonic() < until:
        time.sleep(0.05)
    assert not Path(f"/proc/{job}").exists()


def test_a_job_whose_process_always_ends_fails(
    workspace: Workspace, settings: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    settings.JOBS_APART = True
    begun: list[int] = []

    def lost(job_id: int, seconds: float) -> str:
        Job.objects.filter(pk=job_id).update(tries=len(begun) + 1)
        begun.append(job_id)
        return "lost"

    monkeypatch.setattr(jobs, "done_apart", lost)
    job = jobs.start(workspace, "import", "x", {})
    jobs._run_apart(job.pk)
    job.refresh_from_db()
    assert (job.state, len(begun)) == ("failed", jobs.MOST_TRIES)
    assert "its process ended each time" in job.message
    monkeypatch.setattr(jobs, "done_apart", lambda *_: "too long")
    job = jobs.start(workspace, "import", "x", {})
    jobs._run_apart(job.pk)
    job.refresh_from_db()
    assert (job.state, "30 minutes" in job.message) == ("failed", True)
    assert job_process.done_apart is done_apart


def test_a_kind_that_is_not_known_here_waits_for_a_worker_that_knows_it(
    workspace: Workspace,
) -> None:
    job = jobs.start(workspace, "of next year", "x", {})
    Job.objects.filter(pk=job.pk).update(state="running")
    jobs._run_apart(job.pk)
    job.refresh_from_db()
    assert job.state == "queued"
    later = ProcrastinateJob.objects.filter(args__job_id=job.pk).order_by("-id").first()
    assert later.scheduled_at > timezone.now() + timedelta(seconds=10)


def test_workspaces_take_turns(workspace: Workspace) -> None:
    other = Workspace.objects.create(name="Second unit")
    for k in range(6):
        jobs.start(workspace, "import", f"many {k}", {})
    for k in range(2):
        jobs.start(other, "import", f"few {k}", {})
    jobs.start(workspace, "import", "many 6", {})
    queued = ProcrastinateJob.objects.filter(task_name="job").order_by("-priority", "id")
    titles = {j.pk: j.title for j in Job.objects.all()}
    order = [titles[q.args["job_id"]] for q in queued]
    assert order.index("few 0") <= 1
    assert order.index("few 1") <= 3
    assert [t for t in order if t.startswith("many")] == [f"many {k}" for k in range(7)]


def test_an_inspection_that_failed_is_not_asked_for_again_at_each_look(take: Take) -> None:
    from documents.models import Inspection

    Inspection.objects.all().delete()
    inspect_missing([take])
    job = Job.objects.get(kind="inspect")
    Job.objects.update(state="failed")
    for _ in range(3):
        inspect_missing([take])
    assert Job.objects.filter(kind="inspect").count() == 1
    # Other detectors may well find their way.
    Job.objects.update(payload={**job.payload, "version": 0})
    inspect_missing([take])
    assert Job.objects.filter(kind="inspect").count() == 2


# --- troubles told apart --------------------------------------------------------------------------


def test_what_the_driver_refuses_is_not_a_database_that_is_away(db: None) -> None:
    with pytest.raises(OperationalError) as refused, transaction.atomic():
        list(Revision.objects.filter(pk__in=range(70_000)))
    assert not is_away(refused.value)
    assert passing(refused.value) is None
    assert list(Revision.objects.filter(pk__among=range(70_000))) == []


@pytest.mark.parametrize(("code", "told"), [("57P01", AWAY), ("40P01", MET), ("57014", None)])
def test_troubles_of_the_database_are_told_by_their_code(
    db: None, code: str, told: str | None
) -> None:
    with (
        pytest.raises(OperationalError) as raised,
        transaction.atomic(),
        connection.cursor() as cursor,
    ):
        cursor.execute(f"DO $$ BEGIN RAISE EXCEPTION 'x' USING ERRCODE = '{code}'; END $$")
    assert passing(raised.value) == told
