"""Deliveries: written, read back, compared, kept; refused at once where they cannot be."""

from __future__ import annotations

import numpy as np
import pytest
from leancurve.document.clip import Clip as Document
from leancurve.document.evaluation import evaluate
from leancurve.formats.bvh import read_bvh
from leancurve.formats.clipjson import read_clip
from leancurve.numbers import rotation
from library import kinds
from library.models import Job

from tests.server.conftest import Api


def body(clip: dict, **change: object) -> dict:
    return {
        "revision": clip["head"]["id"], "format": "bvh", "rate": [60, 1], "first": 0, "last": 199,
        "character": "Deckhand suit", "action": "deck walk", "version": 3, **change,
    }  # fmt: skip


def deliver(api: Api, clip: dict, **change: object) -> dict:
    import delivery.deliver  # noqa: F401  (registers the kind, as the worker does)

    job = api.post(f"clips/{clip['id']}/deliveries", body(clip, **change))
    assert job.status_code == 200, job.content
    kinds.run(job.json()["id"])
    assert Job.objects.get(pk=job.json()["id"]).state == "done"
    return api.get(f"clips/{clip['id']}/deliveries").json()[0]


def test_bvh_at_the_clips_rate_is_the_clip_exactly(
    api: Api, clip: dict, document: Document
) -> None:
    made = deliver(api, clip)
    assert made["file_name"] == "Deckhand_suit_deck_walk_v003.bvh"
    assert made["report"]["max_drift_deg"] == 0
    assert made["report"]["frames"] == 200
    file = api.get(f"deliveries/{made['id']}/file")
    assert file["Content-Disposition"] == f'attachment; filename="{made["file_name"]}"'
    back = read_bvh(file.content).clip
    for c in document.channels:
        assert np.array_equal(back.curves[c].values, document.curves[c].values)


def test_a_thinned_clip_at_another_rate_and_range_is_compared_with_its_curves(
    api: Api, clip: dict
) -> None:
    clip = api.apply(clip, "unflip")
    clip = api.apply(clip, "thin")
    made = deliver(api, clip, rate=[24000, 1001], first=20, last=180)
    assert made["report"]["rate"] == [24000, 1001]
    assert made["report"]["frames"] == 64
    assert made["report"]["max_drift_deg"] < 1e-6
    assert made["report"]["max_drift_mm"] < 1e-6
    back = read_bvh(api.get(f"deliveries/{made['id']}/file").content).clip
    from documents.store import load_clip
    from editing.models import Revision

    state = Revision.objects.get(pk=clip["head"]["id"]).state
    times = 20 + np.arange(64) * 60 * 1001 / 24000
    theirs = evaluate(load_clip(state), times).rotation
    assert rotation.geodesic_deg(evaluate(back).rotation, theirs).max() < 1e-6


def test_clip_json_carries_the_curves_and_the_recipe(api: Api, clip: dict) -> None:
    clip = api.apply(clip, "unflip")
    clip = api.apply(clip, "thin")
    made = deliver(api, clip, format="json")
    assert made["report"]["keys"] == clip["head"]["keys"]
    data = api.get(f"deliveries/{made['id']}/file").content
    assert read_clip(data).clip.key_count == clip["head"]["keys"]
    import json

    assert [x["operation"] for x in json.loads(data)["recipe"]] == ["read", "unflip", "thin"]


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"last": 500}, "last ≤ 199, got 0 to 500"),
        ({"first": 20, "last": 10}, "range"),
        ({"rate": [0, 1]}, "rate: must be above 0"),
        ({"pattern": "{shot}"}, "name pattern"),
    ],
)
def test_what_cannot_be_delivered_is_refused_at_once(
    api: Api, clip: dict, change: dict, says: str
) -> None:
    refused = api.post(f"clips/{clip['id']}/deliveries", body(clip, **change))
    assert refused.status_code == 422
    assert says in refused.json()["detail"]
    assert not Job.objects.exists()


def test_a_delivery_taken_up_twice_is_made_once(api: Api, clip: dict) -> None:
    deliver(api, clip)
    job = Job.objects.get()
    Job.objects.update(state="queued")
    kinds.run(job.pk)
    assert len(api.get(f"clips/{clip['id']}/deliveries").json()) == 1


def test_a_name_beyond_ascii_keeps_its_attachment_header(api: Api, clip: dict) -> None:
    """RFC 6266: the name is given encoded, and the file is still an attachment."""
    made = deliver(api, clip, character="Équipage", action="漢")
    file = api.get(f"deliveries/{made['id']}/file")
    assert file["Content-Disposition"] == (
        "attachment; filename*=utf-8''%C3%89quipage_%E6%BC%A2_v003.bvh"
    )


def test_a_pattern_is_a_grammar_of_its_own(api: Api, clip: dict) -> None:
    for pattern in ("{version:9999999999}", "{character.__class__.__mro__}"):
        answer = api.post(f"clips/{clip['id']}/deliveries", body(clip, pattern=pattern))
        assert answer.status_code == 422
        assert "name pattern" in answer.json()["detail"]


def test_the_name_of_a_delivery_is_told_before_it(api: Api, clip: dict) -> None:
    path = f"clips/{clip['id']}/deliveries/plan"

    def told(**change: object) -> tuple[str, bool]:
        asked = body(clip, character="wren", action="walk", **{"version": None, **change})
        (file,) = api.post(path, asked).json()
        assert 100_000 < file["bytes"] < 1_000_000
        return file["name"], file["taken"]

    assert told() == ("wren_walk_v001.bvh", False)
    deliver(api, clip, version=None, character="wren", action="walk")
    assert told() == ("wren_walk_v002.bvh", False)
    assert told(version=1) == ("wren_walk_v001.bvh", True)
    odd = api.post(path, body(clip, pattern="{nobody}"))
    assert odd.status_code == 422


def test_no_two_deliveries_of_a_workspace_have_one_name(api: Api, clip: dict) -> None:
    made = deliver(api, clip)
    again = api.post(f"clips/{clip['id']}/deliveries", body(clip))
    assert again.status_code == 422
    assert "Deckhand_suit_deck_walk_v003.bvh was delivered already" in again.json()["detail"]
    # Without a version it is the next one; one that is still under way counts too.
    waiting = api.post(f"clips/{clip['id']}/deliveries", body(clip, version=None)).json()
    assert waiting["title"] == "Deckhand_suit_deck_walk_v004.bvh"
    after = deliver(api, clip, version=None)
    assert after["file_name"] == "Deckhand_suit_deck_walk_v005.bvh"
    assert after["file_name"] != made["file_name"]
    # Another action begins at one; a pattern without a version has one name.
    assert deliver(api, clip, version=None, action="haul")["file_name"].endswith("_v001.bvh")
    deliver(api, clip, version=None, pattern="{character}")
    twice = api.post(
        f"clips/{clip['id']}/deliveries", body(clip, version=None, pattern="{character}")
    )
    assert twice.status_code == 422
