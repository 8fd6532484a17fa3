"""What is kept: old automatic states are made again, hand work stays, what is gone frees room."""

from __future__ import annotations

import threading
import tracemalloc
from dataclasses import replace
from datetime import timedelta
from io import StringIO

import numpy as np
import pytest
from django.core.management import call_command
from documents import store as documents
from documents.caches import Cache
from documents.models import Blob, State
from documents.packing import decode, encode
from documents.squeezing import squeezed
from documents.store import load_clip, stored_bytes, weight
from editing import patches, storage
from editing.models import Clip, Memo, Revision
from editing.sweeping import sweep
from leancurve.curves.curve import SampledCurve, keyed
from leancurve.document.clip import Clip as Document
from leancurve.document.evaluation import evaluate
from library.models import Take

from tests.server.conftest import Api

NOW = timedelta(0)


def forget_caches() -> None:
    patches.forget()
    for cache in (documents._clips, documents._curves):
        cache.clear()


def gains(api: Api, clip: dict, count: int) -> dict:
    """Automatic lines that change every channel of the arm."""
    for n in range(count):
        line = {"operation": "gain", "params": {"factor": 1.0 + 0.001 * (n + 1)},
                "scope": {"groups": ["left arm"]}}  # fmt: skip
        clip = api.write(clip, append=line).json()
    return clip


@pytest.fixture
def long(api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch) -> dict:
    monkeypatch.setattr(storage, "NEWEST", 3)
    clip = gains(api, clip, 4)
    stroke = {"kind": "pull", "radius": 6, "by": 4.0, "dabs": [{"frame": 20}]}
    clip = api.apply(clip, "brush", **stroke)
    clip = gains(api, clip, 6)
    # However slow the machine is.
    State.objects.filter(ms__isnull=False).update(ms=10.0)
    return clip


def poses(clip: dict) -> dict[int, bytes]:
    return {
        r.number: evaluate(load_clip(r.state)).rotation.tobytes()
        for r in Revision.objects.filter(clip_id=clip["id"]).select_related("state")
    }


def test_old_automatic_states_are_given_up_and_made_again(api: Api, long: dict) -> None:
    before = poses(long)
    row = Clip.objects.get(pk=long["id"])
    size = api.get(f"clips/{long['id']}/storage").json()["bytes"]
    assert storage.prune(row, NOW) == 6
    kept = set(
        Revision.objects.filter(clip=row, state__pruned=False).values_list("number", flat=True)
    )
    # The first is the take as read, the sixth was made by hand, three are the newest.
    assert {1, 6, 10, 11, 12} <= kept
    assert sweep(NOW)["blobs"] > 0
    smaller = api.get(f"clips/{long['id']}/storage").json()["bytes"]
    assert smaller < size
    forget_caches()
    assert poses(long) == before
    assert not State.objects.filter(pruned=True).exists()
    assert storage.prune(row, NOW) == 6


def test_a_revision_that_was_given_up_can_be_gone_back_to(api: Api, long: dict) -> None:
    row = Clip.objects.get(pk=long["id"])
    storage.prune(row, NOW)
    sweep(NOW)
    forget_caches()
    fourth = Revision.objects.get(clip=row, number=4)
    back = api.post(f"clips/{long['id']}/jump", {"revision": long["head"]["id"], "to": fourth.pk})
    assert back.status_code == 200
    poses_now = api.get(f"clips/{long['id']}/poses?revision={fourth.pk}")
    assert poses_now.status_code == 200
    told = api.get(f"clips/{long['id']}/recipe?revision={fourth.pk}").json()
    assert [x["operation"] for x in told] == ["read", "gain", "gain", "gain"]


def test_of_a_clip_that_keeps_a_lot_less_is_kept(
    api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(storage, "NEWEST_OF_A_LOT", 2)
    clip = gains(api, clip, 3)
    stroke = {"kind": "pull", "radius": 6, "by": 4.0, "dabs": [{"frame": 20}]}
    clip = api.apply(clip, "brush", **stroke)
    clip = api.apply(clip, "edit_marks", edits=[{"do": "add", "first": 4, "name": "foot down"}])
    State.objects.filter(ms__isnull=False).update(ms=10.0)
    row = Clip.objects.get(pk=clip["id"])
    size = stored_bytes(State.objects.filter(revision__clip=row))
    monkeypatch.setattr(storage, "A_LOT", size + 1)
    assert storage.prune(row, NOW) == 0
    monkeypatch.setattr(storage, "A_LOT", size)
    before = poses(clip)
    assert storage.prune(row, NOW) == 2
    given_up = Revision.objects.filter(clip=row, state__pruned=True)
    # The fourth is what the newest but one was made of; what was made by hand is kept.
    assert set(given_up.values_list("number", flat=True)) == {2, 3}
    sweep(NOW)
    assert stored_bytes(State.objects.filter(revision__clip=row)) < size
    forget_caches()
    assert poses(clip) == before


def test_checkpoints_stay_so_that_none_takes_long(
    api: Api, long: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    State.objects.filter(ms__isnull=False).update(ms=700.0)
    row = Clip.objects.get(pk=long["id"])
    monkeypatch.setattr(storage, "MOST_MS", 2000.0)
    # Two in a row are made again within two seconds, the third one stays: 2, 3, 5, 7, 8.
    assert storage.prune(row, NOW) == 5
    for revision in Revision.objects.filter(clip=row).select_related("state__before"):
        assert storage._way_back(revision.state)[0] <= 2000.0


def test_a_state_that_comes_out_otherwise_is_kept(
    api: Api, long: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Another factor than the line's: as after a change of what the operation computes."""
    real = storage.made_anew

    def otherwise(state: State) -> Document:
        made = real(state)
        track = made.tracks[0]
        moved = SampledCurve(made.curves[track].values + 1e-6)
        return replace(made, curves={**made.curves, track: moved})

    monkeypatch.setattr(storage, "made_anew", otherwise)
    assert storage.prune(Clip.objects.get(pk=long["id"]), NOW) == 0


def test_deleted_clips_and_takes_free_their_blobs(api: Api, clip: dict, take: Take) -> None:
    untouched = Blob.objects.count()
    gains(api, clip, 3)
    assert Blob.objects.count() > untouched
    out = StringIO()
    call_command("tidy_storage", f"--forget-clip={clip['id']}", "--at-once", stdout=out)
    assert not Clip.objects.exists()
    assert Revision.objects.count() == Memo.objects.count() == 0
    # The take as captured stays: its curves, its header, its skeleton.
    assert State.objects.get().pk == take.state_id
    left = Blob.objects.count()
    call_command("tidy_storage", f"--forget-take={take.pk}", "--at-once", stdout=out)
    assert not Take.objects.exists()
    assert State.objects.count() == 0
    skeletons = 1  # a skeleton is the workspace's: it may be wanted as a target
    assert Blob.objects.count() == skeletons < left


def test_what_was_just_used_is_not_swept(api: Api, clip: dict) -> None:
    done = gains(api, clip, 2)
    api.post(f"clips/{clip['id']}/undo", {"revision": done["head"]["id"]})
    counts = Blob.objects.count(), State.objects.count()
    sweep()
    assert (Blob.objects.count(), State.objects.count()) == counts
    assert storage.tidy()["blobs"] == 0


def test_bytes_shown_are_those_of_the_blobs(api: Api, clip: dict) -> None:
    done = gains(api, clip, 2)
    held = Blob.objects.values_list("data", flat=True)
    shown = api.get(f"clips/{clip['id']}/storage").json()["bytes"]
    whole = sum(len(squeezed(bytes(data))) for data in held)
    # All there is but lines that merged or states made on the way, which nobody has here.
    assert shown <= whole
    assert shown == stored_bytes(
        State.objects.filter(revision__clip=done["id"]).distinct(),
        {sha for r in Revision.objects.all() for sha in r.lines},
    )
    assert shown > 0.9 * whole


@pytest.mark.parametrize("keys", [4, 30, 2000])
def test_a_curve_weighs_what_it_takes_in_memory(keys: int) -> None:
    data = encode(keyed(np.arange(keys), np.sin(np.arange(keys))))
    tracemalloc.start()
    curves = [decode(data) for _ in range(100)]
    weighed = sum(weight(curve) for curve in curves)
    taken, _ = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert weighed == pytest.approx(taken, rel=0.15)


def test_caches_are_weighed_in_bytes_and_safe_for_threads() -> None:
    cache: Cache[bytes] = Cache(1000, len)
    cache.put("large", b"x" * 2000)
    assert cache.get("large") is None

    def work(name: int) -> None:
        for k in range(2000):
            cache.put(f"{name}.{k % 50}", b"x" * 30)
            cache.some([f"{name}.{k % 50}", "none"])
            assert cache.bytes <= 1000

    threads = [threading.Thread(target=work, args=(n,)) for n in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert cache.bytes <= 1000
