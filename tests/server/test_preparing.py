"""Long work done ahead of its write: a job with progress, then the write has it at once."""

from __future__ import annotations

import pytest
from editing import recipes
from editing.models import Memo, Revision
from library import kinds
from library.models import Job

from tests.server.conftest import Api

FEWEST = {"operation": "thin", "params": {"search": "fewest keys", "tolerance_deg": 0.5}}


def prepared(api: Api, clip: dict, **wanted: object) -> Job:
    body = {"revision": clip["head"]["id"], "line": FEWEST, **wanted}
    answer = api.post(f"clips/{clip['id']}/prepare", body)
    assert answer.status_code == 200, answer.content
    kinds.run(answer.json()["id"])
    return Job.objects.get(pk=answer.json()["id"])


def nothing_is_computed(monkeypatch: pytest.MonkeyPatch) -> None:
    def never(*_: object) -> None:
        raise AssertionError("it was at hand")

    monkeypatch.setattr(recipes, "compute", never)


def test_what_a_job_prepared_is_at_hand_for_the_write(
    api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    clip = api.apply(clip, "unflip")
    job = prepared(api, clip)
    assert (job.state, job.title) == ("done", "Thin within 0.5°")
    # Nothing has changed by it.
    assert api.get(f"clips/{clip['id']}").json()["head"]["id"] == clip["head"]["id"]
    keys = job.result["report"]["keys_after"]
    nothing_is_computed(monkeypatch)
    after = api.apply(clip, "thin", **FEWEST["params"])
    assert after["head"]["report"]["keys_after"] == keys


def test_a_line_that_stands_is_prepared_with_other_parameters(
    api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    clip = api.apply(clip, "unflip")
    clip = api.apply(clip, "thin")
    line = clip["head"]["recipe"][-1]["line_id"]
    job = prepared(api, clip, in_place_of=line)
    assert job.state == "done"
    nothing_is_computed(monkeypatch)
    after = api.write(clip, edit={**FEWEST, "line_id": line, "scope": {}}).json()
    assert after["head"]["recipe"][-1]["params"]["search"] == "fewest keys"
    assert [x["operation"] for x in after["head"]["recipe"]] == ["read", "unflip", "thin"]


def test_it_is_refused_or_stopped_without_a_trace(api: Api, clip: dict) -> None:
    body = {"revision": clip["head"]["id"], "line": FEWEST, "in_place_of": "nowhere"}
    assert api.post(f"clips/{clip['id']}/prepare", body).status_code == 422
    before = (Memo.objects.count(), Revision.objects.count())
    body = {"revision": clip["head"]["id"], "line": FEWEST}
    job = Job.objects.get(pk=api.post(f"clips/{clip['id']}/prepare", body).json()["id"])
    assert api.post(f"jobs/{job.pk}/cancel").status_code == 200
    kinds.run(job.pk)
    job.refresh_from_db()
    assert job.state == "cancelled"
    assert (Memo.objects.count(), Revision.objects.count()) == before


@pytest.mark.parametrize("wrong", [{"operation": "thin", "params": {"tolerance_deg": -1}}])
def test_a_line_that_cannot_be_is_refused_before_it_is_queued(
    api: Api, clip: dict, wrong: dict
) -> None:
    body = {"revision": clip["head"]["id"], "line": wrong}
    assert api.post(f"clips/{clip['id']}/prepare", body).status_code == 422
    assert not Job.objects.filter(kind="prepare").exists()


def test_a_recipe_is_prepared_with_progress_and_its_write_has_it_at_once(
    api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    job = prepared(api, clip, line=None, recipe=-1)
    assert (job.state, job.title) == ("done", "Recipe All of it, feet planted")
    assert api.get(f"clips/{clip['id']}").json()["head"]["id"] == clip["head"]["id"]
    nothing_is_computed(monkeypatch)
    after = api.write(clip, recipe=-1).json()
    done = [x["operation"] for x in after["head"]["recipe"]]
    assert done[1] == "tidy_keys"
    assert done[-2:] == ["plant", "check"]
    assert after["plants"]
    both = {"revision": clip["head"]["id"], "line": FEWEST, "recipe": 0}
    assert api.post(f"clips/{clip['id']}/prepare", both).status_code == 422
