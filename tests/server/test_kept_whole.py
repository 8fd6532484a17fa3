"""Nothing that is stored vanishes: whatever is pruned, swept or emptied meanwhile, what is written
keeps all its parts, and what is still referred to stays."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from datetime import timedelta
from typing import Any

import psycopg
import pytest
from django.db import connection
from django.test.utils import CaptureQueriesContext
from django.utils import timezone
from documents import blobs, store
from documents.models import Blob, State
from documents.packing import encode, packed
from documents.store import hash_after, load_clip, store_packed
from editing import recipes, storage, sweeping
from editing.models import Clip, Revision
from editing.sweeping import check, sweep
from leancurve.curves.curve import SampledCurve
from leancurve.document.evaluation import evaluate
from leancurve.operations import Patch
from library import kinds
from library.models import Job, StoredFile, Take, Workspace
from studio import bins, moving

from tests.pace import patient
from tests.server.conftest import Api
from tests.server.test_storage import NOW, forget_caches, gains


@pytest.fixture
def pruned(api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch) -> dict:
    """A clip of ten automatic lines, all but the newest states pruned and swept, while the caches
    of this process still hold them: as where another process did it."""
    monkeypatch.setattr(storage, "NEWEST", 1)
    clip = gains(api, clip, 10)
    assert storage.prune(Clip.objects.get(), NOW) > 5
    assert sweep(NOW)["blobs"] > 0
    assert check() == []
    return clip


def heads_poses(clip: dict) -> bytes:
    head = Revision.objects.select_related("state").get(pk=clip["head"]["id"])
    return evaluate(load_clip(head.state)).rotation.tobytes()


def revisions(clip: dict) -> list[Revision]:
    found = Revision.objects.filter(clip_id=clip["id"]).select_related("state__header")
    return list(found.order_by("number"))


def jump(api: Api, clip: dict, number: int) -> Any:
    to = Revision.objects.get(clip_id=clip["id"], number=number).pk
    return api.post(f"clips/{clip['id']}/jump", {"revision": clip["head"]["id"], "to": to})


def test_a_line_taken_out_after_another_process_pruned_leaves_a_whole_head(
    api: Api, pruned: dict
) -> None:
    line = pruned["head"]["recipe"][4]["line_id"]
    written = api.write(pruned, remove=line)
    assert written.status_code == 200, written.content
    assert check() == []
    before = heads_poses(written.json())
    forget_caches()
    assert heads_poses(written.json()) == before


def test_an_edit_of_an_old_revision_after_another_process_pruned_keeps_every_part(
    api: Api, pruned: dict
) -> None:
    there = jump(api, pruned, 5).json()
    written = api.apply(there, "smooth", strength=0.4)
    assert check() == []
    before = heads_poses(written)
    forget_caches()
    assert heads_poses(written) == before


def test_a_state_that_is_read_while_it_is_swept_away_is_made_again(pruned: dict) -> None:
    """Its row was read before it was pruned, its parts are looked for after they are gone."""
    third = revisions(pruned)[3].state
    before = evaluate(load_clip(third)).rotation.tobytes()
    third.pruned = False  # as it was read
    forget_caches()
    assert evaluate(load_clip(third)).rotation.tobytes() == before


def test_what_was_used_lately_is_not_pruned(
    api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(storage, "NEWEST", 1)
    clip = gains(api, clip, 6)
    row = Clip.objects.get()
    assert storage.prune(row) == 0  # all of it was made just now
    State.objects.update(used=timezone.now() - timedelta(days=2))
    assert jump(api, clip, 3).status_code == 200
    used = Revision.objects.get(clip=row, number=3).state
    assert timezone.now() - used.used < timedelta(minutes=1)
    assert storage.prune(row) > 0
    used.refresh_from_db()
    assert not used.pruned


def test_what_a_memo_names_is_not_swept_from_under_whoever_uses_it(api: Api, clip: dict) -> None:
    gains(api, clip, 2)
    states = set(State.objects.values_list("pk", flat=True))
    State.objects.update(used=timezone.now() - timedelta(days=2))
    recipe = Revision.objects.get(number=2).recipe
    made = recipes.replay(Take.objects.get().state, recipe)[-1].state
    assert states >= {made.pk}
    assert timezone.now() - State.objects.get(pk=made.pk).used < timedelta(minutes=1)
    # And one that is gone is not taken for something that was done.
    gone = State(hash="0" * 64, used=timezone.now() - timedelta(days=2))
    assert store.touch([gone]) is False


# --- what does not come out again -----------------------------------------------------------------


@contextmanager
def computed_otherwise(by: float) -> Iterator[None]:
    """Every line makes numbers that differ: as another processor or another version would."""
    real = store._again
    assert real is not None

    def shifted(state: State) -> Patch:
        patch = real(state)
        moved = {t: SampledCurve(c.columns["values"] + by) for t, c in patch.curves.items()}
        return replace(patch, curves=moved)

    store.make_again_with(shifted)
    try:
        yield
    finally:
        store.make_again_with(real)


def test_within_a_billionth_it_is_the_same_state(api: Api, pruned: dict) -> None:
    forget_caches()
    with computed_otherwise(1e-12):
        there = jump(api, pruned, 5)
        assert there.status_code == 200, there.content
        head = there.json()["head"]["id"]
        assert api.get(f"clips/{pruned['id']}/poses?revision={head}").status_code == 200
        # It is worked on as any: what is written has all its parts, as they are now.
        written = api.apply(there.json(), "smooth", strength=0.4)
    assert check() == []
    before = heads_poses(written)
    forget_caches()
    assert heads_poses(written) == before


def test_one_that_cannot_be_made_again_is_told_and_the_clip_stays_where_it_is(
    api: Api, pruned: dict
) -> None:
    forget_caches()
    with computed_otherwise(1e-3):
        refused = jump(api, pruned, 5)
        assert refused.status_code == 422
        assert "revision 5 cannot be shown" in refused.json()["detail"]
        lost = Revision.objects.get(clip_id=pruned["id"], number=5).pk
        asked = api.get(f"clips/{pruned['id']}/poses?revision={lost}")
        assert asked.status_code == 422
        assert "makes other numbers" in asked.json()["detail"]
    now = api.get(f"clips/{pruned['id']}").json()
    assert now["head"]["id"] == pruned["head"]["id"]
    forget_caches()
    assert jump(api, pruned, 5).status_code == 200


def test_one_bad_state_ends_nobodys_tidying(
    api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(storage, "NEWEST", 1)
    gains(api, clip, 6)
    # A state whose line is none, as a file from elsewhere could have brought it.
    third = Revision.objects.get(number=3).state
    junk = Blob.objects.create(sha="f" * 64, data=b"no line")
    State.objects.filter(pk=third.pk).update(line=junk.sha)
    left = Blob.objects.create(sha="e" * 64, data=b"nobody's")
    done = storage.tidy(NOW)
    assert done["pruned"] >= 2
    assert not Blob.objects.filter(pk=left.pk).exists()
    assert not State.objects.get(pk=third.pk).pruned


def test_no_state_is_many_steps_away_from_one_that_is_whole(
    api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(storage, "NEWEST", 1)
    monkeypatch.setattr(storage, "MOST_IN_A_ROW", 3)
    gains(api, clip, 12)
    storage.prune(Clip.objects.get(), NOW)
    steps = [storage._way_back(r.state)[1] for r in revisions({"id": clip["id"]})]
    assert max(steps) == 3


def test_check_finds_what_is_missing(api: Api, clip: dict) -> None:
    clip = gains(api, clip, 2)
    state = Revision.objects.get(pk=clip["head"]["id"]).state
    some = store._split(state.manifest)[7]
    line = Revision.objects.get(pk=clip["head"]["id"]).lines[-1]
    Blob.objects.filter(sha__in=[some, line]).delete()
    found = "\n".join(check())
    assert f"its part {some[:12]} is not there" in found
    assert f"line {line[:12]} of its recipe is not there" in found
    State.objects.filter(pk=state.pk).update(pruned=True, before=None)
    assert f"{state.pk[:12]} was given up and cannot be made again" in "\n".join(check())


# --- many, and sweeping while others work ---------------------------------------------------------

MANY = 100_000


@pytest.fixture
def many(workspace: Workspace, take: Take, clip: dict) -> int:
    """A workspace that refers to 100,000 blobs: some 500 takes as captured."""
    with connection.cursor() as cursor:
        cursor.execute(
            "INSERT INTO editing_blob (sha, data) SELECT encode(sha256(int4send(i)), 'hex'), "
            "int4send(i) FROM generate_series(1, %s) i", [MANY],
        )  # fmt: skip
        cursor.execute(
            "INSERT INTO editing_state (hash, header_id, manifest, keys, line, pruned, used) "
            "SELECT encode(sha256(('s' || g)::bytea), 'hex'), %s, "
            "string_agg(sha256(int4send(i)), ''::bytea), 1, '', false, now() - interval '2 days' "
            "FROM generate_series(1, %s) i, LATERAL (SELECT i / 200 AS g) x GROUP BY g",
            [take.state.header_id, MANY],
        )  # fmt: skip
        cursor.execute(
            "INSERT INTO editing_revision (clip_id, number, lines, state_id, cause, report, "
            "created) SELECT %s, 1000 + row_number() OVER (), '[]', hash, 'many', '{}', now() "
            "FROM editing_state WHERE used < now() - interval '1 day'", [clip["id"]],
        )  # fmt: skip
    return int(clip["id"])


def test_a_hundred_thousand_parts_are_counted_swept_and_checked(
    api: Api, many: int, workspace: Workspace, short_file: bytes
) -> None:
    used = api.get(f"workspaces/{workspace.pk}/usage")
    assert used.status_code == 200
    assert used.json()["clips"] > 4 * MANY
    assert api.get(f"clips/{many}/storage").json()["bytes"] > 4 * MANY
    assert api.upload(workspace, more__bvh=short_file).json()["refused"] == []
    held = Blob.objects.count()
    with CaptureQueriesContext(connection) as queries:
        swept = sweep(NOW)
    assert swept["blobs"] == 0
    assert Blob.objects.count() == held
    assert max(len(q["sql"]) for q in queries) < 2_000_000
    assert check() == []
    Revision.objects.filter(cause="many").delete()
    swept = sweep(NOW)
    assert (swept["states"], swept["blobs"]) == (MANY // 200 + 1, MANY)


def test_whoever_runs_the_studio_sees_it_with_as_many(api: Api, many: int, user: Any) -> None:
    type(user).objects.filter(pk=user.pk).update(is_staff=True)
    assert api.get("studio").status_code == 200


def another(autocommit: bool = True) -> psycopg.Connection[Any]:
    """A connection of somebody else's, to the tests' database."""
    own = connection.get_connection_params()
    return psycopg.connect(
        host=own["host"], port=own["port"], user=own["user"], password=own["password"],
        dbname=own["dbname"], autocommit=autocommit,
    )  # fmt: skip


@pytest.mark.django_db(transaction=True)
def test_a_sweep_waits_for_nobody_and_holds_up_nobody() -> None:
    """Somebody keeps a lot for a long time: the sweep leaves, and others keep on keeping."""
    Blob.objects.create(sha="a" * 64, data=b"nobody's")
    with another(autocommit=False) as long, another() as writer:
        long.execute("SELECT pg_advisory_xact_lock_shared(%s)", [blobs.KEEPING])
        began = time.monotonic()
        with blobs.sweeping(0.3) as alone:
            assert not alone
            # While it was tried for, and after: nobody stands behind it.
            writer.execute("SET lock_timeout = '200ms'")
            writer.execute("SELECT pg_advisory_xact_lock_shared(%s)", [blobs.KEEPING])
        assert time.monotonic() - began < patient(5)
        assert sweep(NOW)["interrupted"] == 1
        assert Blob.objects.count() == 1
    assert sweep(NOW)["blobs"] == 1


def test_what_is_kept_while_a_sweep_looks_stays(
    api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A blob that nobody held is held again, by its name, before it is taken away."""
    document = packed(load_clip(Take.objects.get().state))
    track = load_clip(Take.objects.get().state).tracks[0]
    own = encode(SampledCurve(load_clip(Take.objects.get().state).curves[track].values + 1.0))
    found = sweeping._unheld

    def meanwhile() -> list[str]:
        names = found()
        moved = Patch(curves={track: store.decode(own)})
        store.store_patch(Take.objects.get().state, moved)
        return names

    blobs.keep_blobs({store.digest(own): own})
    monkeypatch.setattr(sweeping, "_unheld", meanwhile)
    assert sweep(timedelta(hours=1))["blobs"] == 0
    assert Blob.objects.filter(pk=store.digest(own)).exists()
    assert check() == []
    assert document.name == Take.objects.get().state_id


# --- the bin --------------------------------------------------------------------------------------


@pytest.fixture
def other(workspace: Workspace, short_file: bytes, api: Api) -> Take:
    job = api.upload(workspace, second__bvh=short_file).json()["jobs"][0]
    kinds.run(job["id"])
    return Take.objects.get(pk=Job.objects.get(pk=job["id"]).result["take"])


def binned(api: Api, workspace: Workspace) -> list[dict]:
    return api.get(f"workspaces/{workspace.pk}/bin").json()


def test_a_clip_that_once_lay_on_a_binned_take_outlives_it(
    api: Api, clip: dict, take: Take, other: Take, workspace: Workspace
) -> None:
    worked = api.apply(clip, "unflip")
    swapped = api.write(worked, swap=other.pk).json()
    # What it lay on before goes into the bin, and for good.
    assert api.call("DELETE", f"takes/{take.pk}").status_code == 204
    (entry,) = binned(api, workspace)
    assert (entry["name"], entry["clips"], entry["kept_for"]) == ("walk", [], ["walk"])
    assert api.get(f"clips/{clip['id']}").status_code == 200
    assert bins.empty(workspace) == 1
    assert binned(api, workspace) == []
    # The clip is there, on the shelf under the take it lies on, with the way back.
    assert api.post(f"takes/{other.pk}/clip").json()["id"] == clip["id"]
    assert api.get(f"takes/{take.pk}").status_code == 404
    # Undo leads back to the take, which is on the shelf again then.
    back = api.post(f"clips/{clip['id']}/undo", {"revision": swapped["head"]["id"]})
    assert back.json()["take"] == take.pk
    assert api.get(f"takes/{take.pk}").json()["clip"] == clip["id"]
    sweep(NOW)
    assert check() == []
    for revision in revisions(clip):
        assert load_clip(revision.state).frames == 200


def test_a_take_that_is_kept_beneath_clips_goes_with_the_last_of_them(
    api: Api, clip: dict, take: Take, other: Take, workspace: Workspace
) -> None:
    api.write(api.apply(clip, "unflip"), swap=other.pk)
    api.call("DELETE", f"takes/{take.pk}")
    bins.empty(workspace)
    assert Take.objects.get(pk=take.pk).hidden
    api.call("DELETE", f"clips/{clip['id']}")
    assert bins.empty(workspace) == 1
    assert [t.pk for t in Take.objects.all()] == [other.pk]
    assert not StoredFile.objects.filter(name="walk.bvh").exists()


def test_a_bin_says_which_clips_go_with_a_take(
    api: Api, clip: dict, take: Take, workspace: Workspace
) -> None:
    api.call("PATCH", f"clips/{clip['id']}", {"name": "hauling, clean"})
    api.call("DELETE", f"takes/{take.pk}")
    (entry,) = binned(api, workspace)
    assert (entry["kind"], entry["clips"], entry["kept_for"]) == ("take", ["hauling, clean"], [])
    bins.empty(workspace)
    assert not Clip.objects.exists()


def test_what_is_put_back_while_the_bin_is_emptied_stays(
    api: Api, clip: dict, take: Take, workspace: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    api.call("DELETE", f"takes/{take.pk}")
    listed = bins._things

    def meanwhile(w: Workspace) -> Any:
        found = list(listed(w))
        bins.put_back(w, "take", take.pk)
        return found

    monkeypatch.setattr(bins, "_things", meanwhile)
    assert bins.empty(workspace) == 0
    assert api.get(f"clips/{clip['id']}").status_code == 200


def test_uploads_that_wait_for_a_worker_are_kept_however_long(
    api: Api, workspace: Workspace, short_file: bytes
) -> None:
    waiting, done = (
        api.upload(workspace, **{f"{name}__bvh": short_file}).json()["jobs"][0]["id"]
        for name in ("waits", "ended")
    )
    Job.objects.filter(pk=done).update(state="cancelled")
    StoredFile.objects.update(created=timezone.now() - timedelta(days=3))
    moving.forget_fetched(0)
    assert [f.name for f in StoredFile.objects.all()] == ["waits.bvh"]
    kinds.run(waiting)
    assert Job.objects.get(pk=waiting).state == "done"


# --- two writers, and addresses -------------------------------------------------------------------


@pytest.mark.parametrize(
    ("one", "other"),
    [
        (
            {"operation": "place", "params": {"turn": 30}},
            {"operation": "place", "params": {"move": [1, 0, 0]}},
        ),
        (
            {"operation": "edit_layers", "params": {"edits": [{"do": "add", "name": "head"}]}},
            {"operation": "edit_layers", "params": {"edits": [{"do": "add", "name": "arms"}]}},
        ),
    ],
    ids=["placement", "layer settings"],
)  # fmt: skip
def test_two_who_change_the_same_part_are_told(
    api: Api, clip: dict, one: dict, other: dict
) -> None:
    assert api.write(clip, append=one).status_code == 200
    second = api.write(clip, append=other)
    assert second.status_code == 409
    assert second.json()["theirs"]


def test_two_who_change_other_items_of_a_part_are_put_together(api: Api, clip: dict) -> None:
    def marked(name: str, first: int) -> dict[str, Any]:
        return {"operation": "edit_marks", "params": {"edits": [
            {"do": "add", "name": name, "first": first}]}}  # fmt: skip

    assert api.write(clip, append=marked("lifts", 20)).status_code == 200
    second = api.write(clip, append=marked("lands", 60))
    assert second.status_code == 200
    assert [m["name"] for m in second.json()["marks"]] == ["lifts", "lands"]


@pytest.mark.parametrize("gone", [False, True], ids=["muted", "taken out"])
def test_who_keys_a_layer_that_is_shut_or_gone_by_now_is_told(
    api: Api, clip: dict, gone: bool
) -> None:
    def edited(**change: Any) -> dict[str, Any]:
        return {"operation": "edit_layers", "params": {"edits": [{"name": "head", **change}]}}

    laid = api.write(clip, append=edited(do="add")).json()
    key = {"layer": "head", "frame": 5, "turns": {clip["joints"][1]["name"]: [0, 9, 0]}}
    laid = api.apply(laid, "key_layer", **key)
    other = edited(do="remove") if gone else edited(do="set", muted=True)
    assert api.write(laid, append=other).status_code == 200
    mine = {"operation": "key_layer", "params": {**key, "frame": 30}}
    second = api.write(laid, append=mine)
    assert second.status_code == 409
    assert second.json()["theirs"]


def test_kept_numbers_have_another_address_once_the_ids_mean_something_else(
    api: Api, clip: dict, take: Take
) -> None:
    """As after a backup was restored: the same clip and revision, of other content."""
    path = f"clips/{clip['id']}/curves?joints=1&revision={clip['head']['id']}"
    version = f"{clip['evaluation']}.{clip['head']['mark']}"
    assert "immutable" in api.get(f"{path}&v={version}")["Cache-Control"]
    track = load_clip(take.state).tracks[0]
    moved = SampledCurve(load_clip(take.state).curves[track].values + 1.0)
    state = store.store_patch(take.state, Patch(curves={track: moved}))
    Revision.objects.filter(pk=clip["head"]["id"]).update(state=state)
    assert api.get(f"{path}&v={version}")["Cache-Control"] == "private, no-store"
    assert api.get(f"clips/{clip['id']}").json()["head"]["mark"] != clip["head"]["mark"]


def test_what_is_told_since_a_revision_names_that_one_too(api: Api, clip: dict) -> None:
    done = api.apply(clip, "unflip")
    path = f"clips/{clip['id']}/poses?revision={done['head']['id']}&since={clip['head']['id']}"
    one = f"{done['evaluation']}.{done['head']['mark']}"
    assert "immutable" not in api.get(f"{path}&v={one}")["Cache-Control"]
    both = api.get(f"{path}&v={one}.{clip['head']['mark']}")
    assert "immutable" in both["Cache-Control"]


def test_the_same_document_is_kept_once(take: Take) -> None:
    document = packed(load_clip(take.state))
    count = State.objects.count()
    assert store_packed(document).pk == take.state_id
    assert hash_after(take.state, Patch()) == take.state_id
    assert State.objects.count() == count
