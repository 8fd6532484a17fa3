"""Recipes kept and applied, batches of takes, a take swapped beneath a recipe."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import pytest
from editing.models import Batch, Recipe, Revision
from leancurve.demo import TAKES, captured
from leancurve.formats.bvh import write_bvh
from leancurve.formats.files import read_take
from leancurve.operations import apply_patch, operation_named
from leancurve.time.resample import resampled
from library import kinds
from library.intake import store_take
from library.models import Job, StoredFile, Take, Workspace

from tests.core.test_bvh import ROW, file
from tests.made import looked_at
from tests.server.conftest import Api


def stored(workspace: Workspace, name: str, data: bytes) -> Take:
    kept = StoredFile.objects.create(workspace=workspace, name=name, data=data, size=len(data))
    return store_take(workspace, kept, looked_at(data, name), name.split(".")[0])


@pytest.fixture
def other(workspace: Workspace) -> Take:
    """Another take on the same skeleton: 120 frames at 30 a second."""
    clip = resampled(captured(TAKES[2], 7).clip, Fraction(30), 100, 339)
    return stored(workspace, "other.bvh", write_bvh(clip))


def run_all() -> None:
    for job in Job.objects.filter(kind="recipe", state=Job.State.QUEUED).order_by("id"):
        kinds.run(job.pk)


LINES = [
    {"operation": "unflip"},
    {"operation": "despike"},
    {"operation": "thin", "params": {"tolerance_deg": 0.5}},
]


def test_a_clips_lines_are_kept_and_applied_to_another_take_as_one_change(
    api: Api, clip: dict, workspace: Workspace, other: Take
) -> None:
    for line in LINES:
        clip = api.apply(clip, line["operation"], **line.get("params", {}))
    kept = api.post(
        f"workspaces/{workspace.pk}/recipes", {"name": "day 2", "lines": clip["head"]["recipe"]}
    ).json()
    assert kept["told"] == ["Unflip", "Despike", "Thin within 0.5°"]
    again = api.post(f"workspaces/{workspace.pk}/recipes", {"name": "day 2", "lines": LINES})
    assert again.status_code == 422
    assert "kept already" in again.json()["detail"]
    there = api.post(f"takes/{other.pk}/clip").json()
    there = api.write(there, recipe=kept["id"]).json()
    assert there["head"]["number"] == 2
    assert there["head"]["cause"] == "Recipe day 2"
    assert [line["operation"] for line in there["head"]["recipe"]] == [
        "read", "unflip", "despike", "thin",
    ]  # fmt: skip
    names = [r["name"] for r in api.get(f"workspaces/{workspace.pk}/recipes").json()]
    assert names == ["All of it", "All of it, feet planted", "day 2"]
    assert api.call("DELETE", f"recipes/{kept['id']}").status_code == 204
    assert not Recipe.objects.filter(binned=None).exists()


def test_the_built_in_recipe_is_shown_as_its_lines(api: Api, workspace: Workspace) -> None:
    whole, planted = api.get(f"workspaces/{workspace.pk}/recipes").json()
    assert whole["id"] == 0
    assert whole["told"][:2] == ["Tidy keys", "Trim the calibration pose"]
    assert whole["told"][-2:] == ["Thin within 0.25°", "Check what is left"]
    assert planted["id"] == -1
    assert planted["told"] == [*whole["told"][:-1], "Plant the feet", "Check what is left"]


def test_a_batch_is_one_table_and_what_fails_says_why(
    api: Api, workspace: Workspace, take: Take, other: Take
) -> None:
    """A take whose skeleton is no body fails at the line that needs a group of it."""
    odd = stored(workspace, "odd.bvh", file([ROW] * 12))
    lines = [*LINES[:2], {"operation": "thin", "params": {
        "tighter": [{"group": "left arm", "first": 0, "last": 9}]}}]  # fmt: skip
    kept = api.post(f"workspaces/{workspace.pk}/recipes", {"name": "arms", "lines": lines}).json()
    batch = api.post(
        f"workspaces/{workspace.pk}/batches",
        {"recipe": kept["id"], "takes": [take.pk, odd.pk, other.pk]},
    ).json()
    assert [r["state"] for r in batch["rows"]] == ["queued"] * 3
    run_all()
    table = api.get(f"batches/{batch['id']}").json()
    first, failed, last = table["rows"]
    assert (first["state"], failed["state"], last["state"]) == ("done", "failed", "done")
    assert "line 3" in failed["message"]
    assert "left arm" in failed["message"]
    assert Revision.objects.filter(clip__take=odd).count() == 1
    result = first["result"]
    assert result["findings_before"]["alternate"] > 0
    assert "alternate" not in result["findings_after"]
    assert result["keys_after"] < result["keys_before"]
    assert 0 < result["cost_deg"] < 3
    assert result["mended"] >= 3
    assert result["mended_deg"] > 10
    assert result["lines"][0]["told"] == "Unflip"
    card = api.get(f"takes/{take.pk}").json()
    assert "alternate" not in card["left"]
    assert [b["id"] for b in api.get(f"workspaces/{workspace.pk}/batches").json()] == [batch["id"]]


def test_a_batch_taken_up_twice_is_applied_once_and_can_be_cancelled(
    api: Api, workspace: Workspace, take: Take, other: Take
) -> None:
    body = {"recipe": 0, "takes": [take.pk, other.pk]}
    batch = api.post(f"workspaces/{workspace.pk}/batches", body).json()
    job = Job.objects.get(pk=batch["rows"][0]["job"])
    kinds.run(job.pk)
    count = Revision.objects.filter(clip__take=take).count()
    Job.objects.filter(pk=job.pk).update(state=Job.State.RUNNING)
    kinds.run(job.pk)
    assert Revision.objects.filter(clip__take=take).count() == count
    api.post(f"batches/{batch['id']}/cancel")
    run_all()
    states = [r["state"] for r in api.get(f"batches/{batch['id']}").json()["rows"]]
    assert states == ["done", "cancelled"]
    assert not Revision.objects.filter(clip__take=other).exists()


def test_a_batch_of_nothing_or_of_others_takes_is_refused(
    api: Api, workspace: Workspace, take: Take
) -> None:
    path = f"workspaces/{workspace.pk}/batches"
    assert api.post(path, {"recipe": 0, "takes": []}).status_code == 422
    assert "no take 99999" in api.post(path, {"recipe": 0, "takes": [99999]}).json()["detail"]
    assert api.post(path, {"recipe": 77, "takes": [take.pk]}).status_code == 404
    assert not Batch.objects.exists()


def test_strangers_see_no_recipe_and_no_batch(
    api: Api, workspace: Workspace, take: Take, db: Any
) -> None:
    from django.contrib.auth.models import User

    kept = api.post(f"workspaces/{workspace.pk}/recipes", {"name": "x", "lines": LINES}).json()
    batch = api.post(f"workspaces/{workspace.pk}/batches", {"recipe": 0, "takes": [take.pk]}).json()
    stranger = Api(User.objects.create_user("stranger", password="a-long-password"))
    for path in (f"workspaces/{workspace.pk}/recipes", f"workspaces/{workspace.pk}/batches",
                 f"batches/{batch['id']}"):  # fmt: skip
        assert stranger.get(path).status_code == 404
    assert stranger.call("DELETE", f"recipes/{kept['id']}").status_code == 404
    assert stranger.post(f"batches/{batch['id']}/cancel").status_code == 404


def test_a_take_is_swapped_beneath_its_recipe_and_undo_brings_it_back(
    api: Api, clip: dict, other: Take, take: Take
) -> None:
    clip = api.apply(clip, "unflip")
    clip = api.write(clip, append={
        "operation": "smooth", "scope": {"frames": [40, 120], "groups": ["left arm"]},
    }).json()  # fmt: skip
    clip = api.apply(clip, "thin", also=[60, 190])
    before = clip
    swapped = api.write(clip, swap=other.pk).json()
    assert swapped["take"] == other.pk
    assert swapped["frames"] == 120
    assert swapped["rate"] == [30, 1]
    lines = swapped["head"]["recipe"]
    assert [x["operation"] for x in lines] == ["read", "unflip", "smooth", "thin"]
    # 60 a second to 30: the same seconds.
    assert lines[2]["scope"]["frames"] == [20, 60]
    assert lines[3]["params"]["also"] == [30, 95]
    assert swapped["head"]["report"]["unplaced"] == []
    fresh = operation_named("unflip").run(read_take(bytes(other.file.data), "other.bvh").clip)
    assert fresh.report["alternates"] >= 0
    drift = api.get(f"clips/{clip['id']}/drift?revision={swapped['head']['id']}").json()
    assert drift["max_deg"] < 60
    back = api.post(f"clips/{clip['id']}/undo", {"revision": swapped["head"]["id"]}).json()
    assert back["take"] == take.pk
    assert back["frames"] == before["frames"]
    assert back["head"]["state"] == before["head"]["state"]


def test_what_a_swap_would_set_aside_is_told_before_it(
    api: Api, clip: dict, other: Take, take: Take
) -> None:
    clip = api.write(clip, append={
        "operation": "smooth", "scope": {"frames": [40, 120], "groups": ["left arm"]},
    }).json()  # fmt: skip
    beyond = clip["frames"] - 2
    clip = api.apply(clip, "thin", also=[60, beyond])
    asked = f"clips/{clip['id']}/swap?revision={clip['head']['id']}&take="
    assert api.get(f"{asked}{take.pk}").json() == {"lines": [], "edits": 0}
    told = api.get(f"{asked}{other.pk}").json()
    assert api.get(f"clips/{clip['id']}").json()["head"]["id"] == clip["head"]["id"]
    swapped = api.write(clip, swap=other.pk).json()
    assert told["edits"] == len(swapped["head"]["report"]["unplaced"])
    assert told["lines"] == []
    odd = api.get(f"{asked}0")
    assert odd.status_code == 404


def test_a_take_on_another_skeleton_is_not_swapped_in(
    api: Api, clip: dict, workspace: Workspace
) -> None:
    odd = stored(workspace, "odd.bvh", file([ROW] * 3))
    refused = api.write(clip, swap=odd.pk)
    assert refused.status_code == 422
    assert "has other joints" in refused.json()["detail"]


def test_what_no_longer_fits_a_shorter_take_is_listed(
    api: Api, clip: dict, workspace: Workspace
) -> None:
    short = resampled(captured(TAKES[2], 7).clip, first=200, last=279)
    take = stored(workspace, "short.bvh", write_bvh(short))
    clip = api.write(clip, append={"operation": "fill", "scope": {"frames": [150, 160]}}).json()
    swapped = api.write(clip, swap=take.pk).json()
    _, fill = swapped["head"]["recipe"]
    assert (fill["operation"], bool(fill["aside"])) == ("fill", True)
    (lost,) = swapped["head"]["report"]["unplaced"]
    assert (lost["operation"], lost["frames"]) == ("fill", [150, 160])
    assert lost["line_id"] == fill["line_id"]
    # What was set aside has its place again on the take that it was made on.
    back = api.write(swapped, swap=clip["take"]).json()
    assert back["head"]["state"] == clip["head"]["state"]
    assert back["head"]["recipe"][1]["aside"] is None


def test_the_core_alone_gives_what_the_recipe_gave(api: Api, clip: dict, document: Any) -> None:
    from documents.store import load_clip

    for line in LINES:
        document = apply_patch(
            document, operation_named(line["operation"]).run(document, line.get("params", {}))
        )
    done = api.write(clip, recipe=0)
    assert done.status_code == 200
    undone = api.post(f"clips/{clip['id']}/undo", {"revision": done.json()["head"]["id"]}).json()
    for line in LINES:
        undone = api.apply(undone, line["operation"], **line.get("params", {}))
    stored_clip = load_clip(Revision.objects.get(pk=undone["head"]["id"]).state)
    for c in document.channels:
        for name, column in document.curves[c].columns.items():
            assert column.tobytes() == stored_clip.curves[c].columns[name].tobytes()
