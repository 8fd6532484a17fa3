"""A take's file read again with other choices, and tables read onto a skeleton of the shelf."""

from __future__ import annotations

from typing import Any

import pytest
from django.contrib.auth.models import User
from leancurve.formats.bvh import read_bvh
from leancurve.formats.table import write_table
from library import kinds
from library.models import Job, StoredFile, Take, Workspace

from tests.core.test_choices import few_keys
from tests.server.conftest import Api, a_workspace

CHOSEN = {"rate": [60, 1], "order": "XZY", "orders": {"Head": "YXZ"}, "within_deg": 0.1}


def brought_in(api: Api, workspace: Workspace, onto: int | None = None, **files: bytes) -> Take:
    """The one take of a file that comes in."""
    (job,) = api.upload(workspace, onto, **files).json()["jobs"]
    return Take.objects.get(pk=ended(job)["take"])


def ended(job: dict[str, Any]) -> dict[str, Any]:
    """A job's result, once it is done."""
    kinds.run(job["id"])
    done = Job.objects.get(pk=job["id"])
    assert done.state == Job.State.DONE, done.message
    return dict(done.result)


def read_again(api: Api, take: Take, **choices: Any) -> Take:
    job = api.post(f"takes/{take.pk}/reading", choices).json()
    return Take.objects.get(pk=ended(job)["take"])


@pytest.mark.django_db
def test_a_file_read_again_is_a_take_of_its_own_that_can_be_swapped_in(
    api: Api, workspace: Workspace
) -> None:
    first = brought_in(api, workspace, turn__glb=few_keys())
    clip = api.post(f"takes/{first.pk}/clip").json()
    clip = api.apply(clip, "smooth")
    other = read_again(api, first, **CHOSEN)
    assert (other.name, other.frames, other.file) == (
        "turn (60 / s, XZY, Head YXZ, keyed within 0.1°)", 121, first.file,
    )  # fmt: skip
    told = {t["id"]: t for t in api.get(f"workspaces/{workspace.pk}/takes").json()}
    assert told[other.pk]["choices"] == CHOSEN
    assert told[first.pk]["choices"] == {
        "rate": None,
        "order": None,
        "orders": {},
        "within_deg": None,
    }
    assert any("as chosen" in n for n in told[other.pk]["notes"])
    swapped = api.write(clip, swap=other.pk)
    assert swapped.status_code == 200, swapped.content
    assert (swapped.json()["take"], swapped.json()["frames"]) == (other.pk, 121)
    orders = {j["name"]: "".join(c[1] for c in j["channels"] if c[0] == "r")
              for j in swapped.json()["joints"]}  # fmt: skip
    assert orders == {"Hips": "xzy", "Spine": "xzy", "Head": "yxz"}


@pytest.mark.django_db
def test_the_same_reading_is_not_made_twice(api: Api, workspace: Workspace) -> None:
    first = brought_in(api, workspace, turn__glb=few_keys())
    other = read_again(api, first, rate=[25, 1])
    assert read_again(api, first, rate=[25, 1]) == other
    # From the other one too, and back to how it came.
    assert read_again(api, other, rate=[25, 1]) == other
    assert read_again(api, other) == first
    assert (Take.objects.count(), StoredFile.objects.count()) == (2, 1)
    # One in the bin is not what somebody asks for.
    api.call("DELETE", f"takes/{other.pk}")
    assert read_again(api, first, rate=[25, 1]) != other


@pytest.mark.django_db
def test_of_several_takes_in_a_file_the_one_that_is_asked_for_is_read(
    api: Api, workspace: Workspace
) -> None:
    from tests.server.test_takes import two_animations  # there the file is explained

    (job,) = api.upload(workspace, crew__glb=two_animations()).json()["jobs"]
    walk, nod = (Take.objects.get(pk=pk) for pk in ended(job)["takes"])
    assert [(t.name, t.part) for t in (walk, nod)] == [("walk", 0), ("nod", 1)]
    api.call("PATCH", f"takes/{nod.pk}", {"name": "yes"})
    again = read_again(api, nod, rate=[60, 1])
    assert (again.name, again.frames, again.part) == ("yes (60 / s)", 39, 1)


@pytest.mark.django_db
def test_what_cannot_be_chosen_is_said_and_makes_nothing(
    api: Api, workspace: Workspace, short_file: bytes
) -> None:
    take = brought_in(api, workspace, walk__bvh=short_file)
    for wrong, told in (
        ({"order": "XYX"}, "is not one of XYZ"),
        ({"rate": [1, 1000]}, "rate: expected 0.01"),
        ({"within_deg": 90}, "fitted: expected"),
    ):
        answered = api.post(f"takes/{take.pk}/reading", wrong)
        assert (answered.status_code, told in answered.json()["detail"]) == (422, True)
    assert api.post(f"takes/{take.pk}/reading", {"rate": [0, 1]}).status_code == 422
    job = api.post(f"takes/{take.pk}/reading", {"order": "XYZ"}).json()
    kinds.run(job["id"])
    message = Job.objects.get(pk=job["id"]).message
    assert "a .bvh file says itself what its rotation channels are" in message
    assert (Take.objects.count(), StoredFile.objects.count()) == (1, 1)


@pytest.mark.django_db
def test_a_table_is_read_onto_a_skeleton_of_the_shelf(
    api: Api, workspace: Workspace, short_file: bytes
) -> None:
    walk = brought_in(api, workspace, walk__bvh=short_file)
    table = write_table(read_bvh(short_file).clip)
    out = api.upload(workspace, steps__csv=table).json()
    assert out["jobs"] == []
    assert out["refused"][0]["detail"] == (
        "steps.csv: a table of channels holds no skeleton: choose the one it is for"
    )
    take = brought_in(api, workspace, walk.pk, steps__csv=table)
    assert (take.name, take.skeleton, take.frames) == ("steps", walk.skeleton, walk.frames)
    assert bytes(take.state.manifest) == bytes(walk.state.manifest)
    # Its rate may be chosen anew, with the skeleton it has.
    assert read_again(api, take, rate=[25, 1]).rate_numerator == 25


@pytest.mark.django_db
def test_nobody_reads_onto_or_again_what_is_not_theirs(
    api: Api, workspace: Workspace, short_file: bytes
) -> None:
    take = brought_in(api, workspace, walk__bvh=short_file)
    other = User.objects.create_user("other")
    theirs = a_workspace(other)
    assert Api(other).post(f"takes/{take.pk}/reading", {}).status_code == 404
    table = write_table(read_bvh(short_file).clip)
    assert Api(other).upload(theirs, take.pk, steps__csv=table).status_code == 404
