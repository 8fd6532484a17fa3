"""Roles, the bin, room, and the page of whoever runs the studio."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone
from documents.models import Blob
from editing.models import Clip, Recipe
from editing.sweeping import sweep
from library.models import Job, Membership, StoredFile, Take, Workspace
from studio import bins
from studio.usage import usage_of

from tests.server.conftest import Api


@pytest.fixture
def with_role(workspace: Workspace) -> Callable[[str], Api]:
    def made(role: str) -> Api:
        user = User.objects.create_user(f"the {role}", password="a-long-password")
        workspace.members.add(user, through_defaults={"role": role})
        return Api(user)

    return made


def test_a_viewer_sees_plays_and_downloads_but_changes_nothing(
    api: Api, clip: dict, workspace: Workspace, take: Take, with_role: Callable[[str], Api]
) -> None:
    viewer, path, head = with_role("viewer"), f"clips/{clip['id']}", clip["head"]["id"]
    recipe = api.post(
        f"workspaces/{workspace.pk}/recipes",
        {"name": "short", "lines": [{"operation": "unflip"}]},
    ).json()
    for read in (
        path, f"{path}/poses?revision={head}", f"{path}/findings?revision={head}",
        f"{path}/deliveries", f"workspaces/{workspace.pk}/takes", f"workspaces/{workspace.pk}/bin",
    ):  # fmt: skip
        assert viewer.get(read).status_code == 200, read
    assert viewer.post(f"takes/{take.pk}/clip").json()["id"] == clip["id"]
    asked = {"revision": head, "operation": "unflip"}
    assert viewer.post(f"{path}/preview", asked).status_code == 200
    moved = {"since": head, "revision": head, "frames": [1]}
    assert viewer.post(f"{path}/moved", moved).status_code == 200
    camera = {"position": [0, 1, 2], "target": [0, 0, 0], "fov": 40}
    changes = [
        viewer.write(clip, append={"operation": "unflip", "params": {}}),
        viewer.post(f"{path}/undo", {"revision": head}),
        viewer.call("PUT", f"{path}/camera", camera),
        viewer.call("PATCH", path, {"name": "mine"}),
        viewer.call("PUT", f"{path}/profile", {"revision": head}),
        viewer.call("DELETE", path),
        viewer.call("DELETE", f"takes/{take.pk}"),
        viewer.call("DELETE", f"recipes/{recipe['id']}"),
        viewer.post(
            f"{path}/prepare",
            {"revision": head, "line": {"operation": "unflip"}},
        ),
        viewer.upload(workspace, walk__bvh=b"x"),
        viewer.post(f"workspaces/{workspace.pk}/batches", {"recipe": 0, "takes": [take.pk]}),
        viewer.call("DELETE", f"workspaces/{workspace.pk}/bin"),
    ]
    assert [c.status_code for c in changes] == [403] * len(changes)
    assert "You are a viewer" in changes[0].json()["detail"]
    assert viewer.get("session").json()["workspaces"][0]["role"] == "viewer"


def test_a_viewer_opens_no_clip_that_is_not_there(
    take: Take, with_role: Callable[[str], Api]
) -> None:
    assert with_role("viewer").post(f"takes/{take.pk}/clip").status_code == 403
    assert not Clip.objects.exists()


def test_owners_say_who_is_in_and_one_is_always_left(
    api: Api, workspace: Workspace, user: User, with_role: Callable[[str], Api]
) -> None:
    editor = with_role("editor")
    other = User.objects.create_user("third mate", password="a-long-password")
    people = f"workspaces/{workspace.pk}/people"
    wanted = {"name": "third mate", "role": "viewer"}
    assert editor.call("PUT", people, wanted).status_code == 403
    rows = api.call("PUT", people, wanted).json()
    assert {r["name"]: r["role"] for r in rows} == {
        "mate": "owner", "the editor": "editor", "third mate": "viewer",
    }  # fmt: skip
    assert Api(other).get(f"workspaces/{workspace.pk}/takes").status_code == 200
    assert api.call("DELETE", f"{people}/{other.pk}").status_code == 200
    assert Api(other).get(f"workspaces/{workspace.pk}/takes").status_code == 404
    for refused in (
        api.call("PUT", people, {"name": "mate", "role": "editor"}),
        api.call("DELETE", f"{people}/{user.pk}"),
    ):
        assert refused.status_code == 422
        assert "at least one owner" in refused.json()["detail"]
    assert Membership.objects.get(user=user).role == "owner"
    unknown = api.call("PUT", people, {"name": "x", "role": "viewer"})
    assert "no user called 'x'" in unknown.json()["detail"]


def test_what_was_deleted_is_put_back_as_it_was(
    api: Api, clip: dict, workspace: Workspace, take: Take
) -> None:
    clip = api.apply(clip, "unflip")
    recipes = f"workspaces/{workspace.pk}/recipes"
    kept = api.post(recipes, {"name": "short", "lines": [{"operation": "unflip"}]}).json()
    assert api.call("DELETE", f"recipes/{kept['id']}").status_code == 204
    assert api.call("DELETE", f"takes/{take.pk}").status_code == 204
    assert api.get(f"workspaces/{workspace.pk}/takes").json() == []
    assert api.get(f"takes/{take.pk}").status_code == 404
    assert api.get(f"clips/{clip['id']}").status_code == 404
    assert api.get(f"clips/{clip['id']}/poses?revision={clip['head']['id']}").status_code == 404
    assert [r["name"] for r in api.get(recipes).json()] == ["All of it", "All of it, feet planted"]
    binned = api.get(f"workspaces/{workspace.pk}/bin").json()
    assert [(b["kind"], b["name"]) for b in binned] == [("take", take.name), ("recipe", "short")]
    assert binned[0]["bytes"] > take.file.size
    assert binned[0]["until"][:10] == (timezone.now() + timedelta(days=30)).date().isoformat()
    # Its name may have been taken meanwhile.
    api.post(recipes, {"name": "short", "lines": [{"operation": "thin"}]})
    for thing in binned:
        wanted = {"kind": thing["kind"], "id": thing["id"]}
        put = f"workspaces/{workspace.pk}/bin/put-back"
        assert api.post(put, wanted).status_code == 200
    kept = [r["name"] for r in api.get(recipes).json()]
    assert kept[2:] == ["short", "short 2"]
    assert api.get(f"clips/{clip['id']}").json()["head"]["id"] == clip["head"]["id"]
    assert api.get(f"workspaces/{workspace.pk}/bin").json() == []


def test_a_deleted_clip_gives_its_take_a_fresh_one(api: Api, clip: dict, take: Take) -> None:
    assert api.call("DELETE", f"clips/{clip['id']}").status_code == 204
    assert api.get(f"takes/{take.pk}").json()["clip"] is None
    assert api.post(f"takes/{take.pk}/clip").json()["id"] != clip["id"]


def test_emptying_the_bin_gives_the_room_back(
    api: Api, clip: dict, workspace: Workspace, take: Take, with_role: Callable[[str], Api]
) -> None:
    api.apply(clip, "thin")
    assert usage_of(workspace).bytes > 0
    api.call("DELETE", f"takes/{take.pk}")
    path = f"workspaces/{workspace.pk}/bin"
    assert with_role("editor").call("DELETE", path).status_code == 403
    assert api.call("DELETE", path).status_code == 204
    sweep(timedelta(0))
    assert not Take.objects.exists()
    assert not StoredFile.objects.exists()
    assert Blob.objects.count() == 1  # the skeleton, which the workspace goes on knowing
    assert usage_of(workspace).bytes == 0


def test_the_bin_keeps_for_thirty_days(clip: dict, workspace: Workspace, take: Take) -> None:
    recipe = Recipe.objects.create(workspace=workspace, name="old", lines=[])
    bins.put_in(take)
    bins.put_in(recipe)
    bins.empty_now_and_then(0)
    assert Take.objects.count() == Recipe.objects.count() == 1
    long_ago = timezone.now() - timedelta(days=31)
    Take.objects.update(binned=long_ago)
    bins.empty_now_and_then(0)
    assert (Take.objects.count(), Clip.objects.count(), Recipe.objects.count()) == (0, 0, 1)


def test_a_full_workspace_says_so_before_and_refuses_by_name(
    api: Api, clip: dict, workspace: Workspace, short_file: bytes
) -> None:
    path = f"workspaces/{workspace.pk}/usage"
    used = api.get(path).json()
    assert used["bytes"] == used["files"] + used["deliveries"] + used["clips"]
    assert (used["takes"], used["nearly_full"]) == (1, False)
    workspace.most_bytes = used["bytes"] + len(short_file) + 10
    workspace.save()
    assert api.get(path).json()["nearly_full"] is (used["bytes"] > 0.9 * workspace.most_bytes)
    out = api.upload(workspace, one__bvh=short_file, two__bvh=short_file).json()
    assert [j["title"] for j in out["jobs"]] == ["one.bvh"]
    assert out["refused"][0]["detail"].startswith("two.bvh: the workspace holds")
    Workspace.objects.update(most_bytes=None, most_takes=1)
    out = api.upload(workspace, three__bvh=short_file).json()
    assert "1 takes, as many as it may" in out["refused"][0]["detail"]
    Workspace.objects.update(most_bytes=5)
    delivery = {
        "revision": clip["head"]["id"], "format": "bvh", "rate": [60, 1], "first": 0, "last": 9,
        "character": "a", "action": "b", "version": 1,
    }  # fmt: skip
    refused = api.post(f"clips/{clip['id']}/deliveries", delivery)
    assert refused.status_code == 422
    assert "no room for more" in refused.json()["detail"]


@pytest.fixture
def runner(db: None) -> Api:
    user = User.objects.create_user("harbour master", password="a-long-password", is_staff=True)
    return Api(user)


def test_the_place_is_told_to_whoever_runs_it_alone(
    api: Api, runner: Api, clip: dict, workspace: Workspace
) -> None:
    Job.objects.create(
        workspace=workspace, kind="import", title="bad.bvh", state="failed", message="no motion"
    )
    assert api.get("studio").status_code == 404
    assert api.post("studio/people", {"name": "x", "password": "y"}).status_code == 404
    told = runner.get("studio").json()
    (row,) = told["workspaces"]
    assert row["name"] == "Crew"
    assert row["usage"]["bytes"] == usage_of(workspace).bytes
    assert told["failures"][0]["message"] == "no motion"
    assert {p["name"] for p in told["people"]} == {"mate", "harbour master"}
    assert told["versions"]["PostgreSQL"][0].isdigit()
    assert told["database_bytes"] > 1_000_000
    # Running the studio is not being in every workspace.
    assert runner.get(f"clips/{clip['id']}").status_code == 404


def test_people_come_go_and_get_new_passwords(runner: Api, workspace: Workspace) -> None:
    wanted = {"name": "bosun", "password": "a-long-password", "workspace": workspace.pk}
    people = {p["name"]: p for p in runner.post("studio/people", wanted).json()["people"]}
    assert people["bosun"]["workspaces"] == [{"name": "Crew", "role": "editor"}]
    assert "already" in runner.post("studio/people", wanted).json()["detail"]
    weak = runner.post("studio/people", {"name": "cook", "password": "short"})
    assert "too short" in weak.json()["detail"]
    bosun = User.objects.get(username="bosun")
    signed_in = Client()
    signed_in.force_login(bosun)
    assert signed_in.get("/api/session").json()["user"] == "bosun"

    path = f"studio/people/{bosun.pk}"
    assert runner.post(f"{path}/password", {"password": "another-long-one"}).status_code == 200
    assert signed_in.get("/api/session").json()["user"] is None
    again = Client()
    given = {"username": "bosun", "password": "another-long-one"}
    assert again.post("/api/session", given, content_type="application/json").status_code == 200
    assert runner.call("DELETE", path).status_code == 200
    assert again.get("/api/session").json()["user"] is None
    assert runner.post(f"{path}/let-in").status_code == 200
    me = User.objects.get(username="harbour master")
    assert runner.call("DELETE", f"studio/people/{me.pk}").status_code == 422


def test_workspaces_are_made_named_and_given_room(runner: Api, user: User) -> None:
    made: Any = runner.post("studio/workspaces", {"name": "Night shoot", "owner": "mate"}).json()
    (row,) = made["workspaces"]
    assert Membership.objects.get(user=user).role == "owner"
    changed = runner.call(
        "PATCH", f"studio/workspaces/{row['id']}", {"name": "Day shoot", "most_bytes": 1000}
    ).json()
    (row,) = changed["workspaces"]
    assert (row["name"], row["usage"]["most_bytes"]) == ("Day shoot", 1000)
    back = runner.call("PATCH", f"studio/workspaces/{row['id']}", {"most_bytes": None}).json()
    assert back["workspaces"][0]["usage"]["most_bytes"] == 50 * 10**9
    assert back["workspaces"][0]["name"] == "Day shoot"
