"""Hand edits on the server: one line only where that makes the same, never on another key."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from typing import Any, ClassVar

import pytest
from django.db import connection
from django.test.utils import CaptureQueriesContext
from documents.store import load_clip
from editing import outcomes
from editing.models import Clip, Memo, Revision
from editing.recipes import begin, new_line, run_line
from leancurve.curves.curve import KeyedCurve, SampledCurve
from leancurve.document.track import base_track
from leancurve.operations import OPERATIONS, Patch
from leancurve.operations.base import Input, Operation, Params

from tests.server.conftest import Api


def head(clip: dict) -> Any:
    return load_clip(Revision.objects.get(pk=clip["head"]["id"]).state)


def keys_of(clip: dict, joint: str = "LeftForearm", channel: str = "ry") -> KeyedCurve:
    document = head(clip)
    curve = document.curves[base_track(document.skeleton.index(joint), channel)]
    assert isinstance(curve, KeyedCurve)
    return curve


def edit_of(curve: KeyedCurve, k: int, **what: Any) -> dict[str, Any]:
    seen = {"id": int(curve.id[k]), "frame": float(curve.time[k]), "was": float(curve.value[k])}
    return {"joint": "LeftForearm", "channel": "ry", **seen, **what}


def edit(api: Api, clip: dict, *keys: dict[str, Any]) -> dict:
    return api.apply(clip, "edit", keys=list(keys))


@pytest.fixture
def thin(api: Api, clip: dict) -> dict:
    return api.apply(api.apply(clip, "smooth", strength=0.5), "thin")


def resent(api: Api, clip: dict, operation: str, **params: Any) -> dict:
    """A line given parameters again: all after it is replayed."""
    line = next(x for x in clip["head"]["recipe"] if x["operation"] == operation)
    change = {"line_id": line["line_id"], "operation": operation, "params": params, "scope": {}}
    done = api.write(clip, edit=change)
    assert done.status_code == 200, done.content
    return done.json()


def replayed(clip: dict) -> str:
    """The state that the recipe makes when nothing of it is remembered."""
    revision = Revision.objects.get(pk=clip["head"]["id"])
    Memo.objects.all().delete()
    at = begin(outcomes.take_of(revision).state)
    for line in revision.recipe:
        at = run_line(line, at).after
    return at.state.hash


def test_after_a_change_above_an_edit_is_on_its_key_or_listed(api: Api, thin: dict) -> None:
    curve = keys_of(thin)
    k = curve.key_count // 2
    at, value = float(curve.time[k]), float(curve.value[k]) + 15.0
    edited = edit(api, thin, edit_of(curve, k, value=value))
    changed = resent(api, edited, "smooth", strength=0.95)
    after = keys_of(changed)
    placed = [float(t) for t, v in zip(after.time, after.value, strict=True) if v == value]
    lost = changed["head"]["report"].get("unplaced", [])
    assert len(placed) + len(lost) == 1
    for time in placed:
        assert abs(time - at) <= 0.5
    for what in lost:
        assert (what["frame"], what["value"], what["joint"]) == (at, value, "LeftForearm")
        assert what["line_id"] == edited["head"]["recipe"][-1]["line_id"]


def test_an_edit_on_a_key_that_is_gone_is_listed_with_its_line(api: Api, thin: dict) -> None:
    """Thinned so that another key stands there: the edit is not made on it."""
    curve = keys_of(thin)
    gone = None
    coarse = keys_of(resent(api, thin, "thin", tolerance_deg=8.0))
    for k in range(1, curve.key_count - 1):
        if min(abs(coarse.time - curve.time[k])) > 0.5:
            gone = k
    assert gone is not None
    back = api.post(f"clips/{thin['id']}/undo", {"revision": _head(thin)}).json()
    edited = edit(api, back, edit_of(curve, gone, value=77.0))
    changed = resent(api, edited, "thin", tolerance_deg=8.0)
    assert 77.0 not in keys_of(changed).value
    (lost,) = changed["head"]["report"]["unplaced"]
    assert lost["value"] == 77.0
    told = api.get(f"clips/{thin['id']}/recipe?revision={changed['head']['id']}").json()
    assert told[-1]["report"]["unplaced"][0]["value"] == 77.0
    # Placed by hand: the edit is sent again with the key that is meant.
    target = keys_of(changed)
    keys = [{**told[-1]["params"]["keys"][0], **edit_of(target, 1)}]
    placed = api.write(changed, edit={"line_id": told[-1]["line_id"], "operation": "edit",
                                      "params": {"keys": keys}}).json()  # fmt: skip
    assert keys_of(placed).value[1] == 77.0
    assert placed["head"]["report"].get("unplaced", []) == []


def _head(clip: dict) -> int:
    return int(Clip.objects.get(pk=clip["id"]).head_id)


def test_edits_in_a_row_are_one_line_that_makes_what_is_shown(api: Api, thin: dict) -> None:
    """Chains that put together key by key would make something else."""
    before = len(thin["head"]["recipe"])
    curve = keys_of(thin)
    k = 2

    def then(clip: dict, k: int, **what: Any) -> dict:
        return edit(api, clip, edit_of(keys_of(clip), k, **what))

    chains: list[list[tuple[int, dict[str, Any]]]] = [
        [(k, {"value": float(curve.value[k]) + s}) for s in (0.5, 1.0, 1.5)],
        [(k, {"riding": True}), (k + 1, {"time": float(curve.time[k + 1]) + 2.0})],
        [(k, {"handle": "hold"}), (k, {"slope_out": 1.5, "length_out": 0.5, "broken": True})],
        [(k, {"time": float(curve.time[k + 1])}), (k + 1, {"time": float(curve.time[k + 2]) - 1})],
        [(k, {"do": "remove"}), (k, {"value": 3.0})],
    ]
    for chain in chains:
        clip = thin
        for at, what in chain:
            clip = then(clip, at, **what)
        shown = clip["head"]["state"]
        assert len(clip["head"]["recipe"]) == before + 1, chain
        assert replayed(clip) == shown, chain
        api.post(f"clips/{clip['id']}/jump", {"revision": clip["head"]["id"],
                                              "to": thin["head"]["id"]})  # fmt: skip


def test_nudges_of_one_key_are_one_edit(api: Api, thin: dict) -> None:
    clip = thin
    for _ in range(6):
        curve = keys_of(clip)
        clip = edit(api, clip, edit_of(curve, 2, value=float(curve.value[2]) + 0.5))
    revision = Revision.objects.get(pk=clip["head"]["id"])
    (key,) = revision.recipe[-1]["params"]["keys"]
    assert key["value"] == pytest.approx(float(keys_of(thin).value[2]) + 3.0)
    assert key["was"] == float(keys_of(thin).value[2])


def test_a_stroke_costs_the_same_at_the_first_and_at_the_last(api: Api, clip: dict) -> None:
    def stroke(n: int, clip: dict) -> tuple[dict, int]:
        line = {
            "operation": "brush",
            "params": {"kind": "pull", "radius": 6, "by": 0.1, "dabs": [{"frame": 20 + n}]},
            "scope": {"only": [["LeftForearm", "ry"]]},
        }
        with CaptureQueriesContext(
            connection,
        ) as queries:
            done = api.write(clip, append=line)
        assert done.status_code == 200
        return done.json(), len(queries)

    counts = []
    for n in range(40):
        clip, count = stroke(n, clip)
        counts.append(count)
    assert max(counts[3:]) <= min(counts[3:]) + 1
    with CaptureQueriesContext(connection) as drift:
        api.get(f"clips/{clip['id']}/drift?revision={clip['head']['id']}")
    with CaptureQueriesContext(connection) as recipe:
        told = api.get(f"clips/{clip['id']}/recipe?revision={clip['head']['id']}")
    assert len(told.json()) == 41
    assert len(drift) < 12
    assert len(recipe) < 12


def test_ones_own_writes_that_were_on_their_way_are_no_conflict(api: Api, thin: dict) -> None:
    """Three edits of one key, each made before the answer to the one before it had come."""
    curve = keys_of(thin)
    base = thin["head"]["id"]
    sent: list[str] = []
    value = float(curve.value[2])
    was = value
    for _ in range(3):
        value += 1.0
        request = str(uuid.uuid4())
        key = {**edit_of(curve, 2), "was": was, "value": value}
        body = {"revision": base, "request_id": request, "after": sent,
                "append": {"operation": "edit", "params": {"keys": [key]}}}  # fmt: skip
        done = api.post(f"clips/{thin['id']}/writes", body)
        assert done.status_code == 200, done.content
        sent = [*sent, request]
        was = value
    assert keys_of(done.json()).value[2] == value
    # Without saying so they are somebody else's.
    stale = {**body, "request_id": str(uuid.uuid4()), "after": []}
    refused = api.post(f"clips/{thin['id']}/writes", stale)
    assert refused.status_code == 409
    assert refused.json()["theirs"] == ["LeftForearm ry"]


def test_between_ones_own_writes_another_ones_counts(api: Api, thin: dict) -> None:
    mine, theirs = str(uuid.uuid4()), str(uuid.uuid4())
    curve = keys_of(thin)
    base = {"revision": thin["head"]["id"]}

    def body(request: str, k: int, after: list[str]) -> dict[str, Any]:
        key = edit_of(curve, k, value=float(curve.value[k]) + 1.0)
        return {**base, "request_id": request, "after": after,
                "append": {"operation": "edit", "params": {"keys": [key]}}}  # fmt: skip

    head_line = {"operation": "gain", "params": {"factor": 1.1}, "scope": {"joints": ["Head"]}}
    assert api.post(f"clips/{thin['id']}/writes", body(mine, 1, [])).status_code == 200
    api.post(f"clips/{thin['id']}/writes",
             {**base, "request_id": theirs, "after": [], "append": head_line})  # fmt: skip
    # Disjoint: both stand. On the same channel after theirs: a conflict.
    assert (
        api.post(f"clips/{thin['id']}/writes", body(str(uuid.uuid4()), 2, [mine])).status_code
        == 200
    )
    forearm = {**head_line, "scope": {"joints": ["LeftForearm"]}}
    other = {**base, "revision": _head(thin), "request_id": str(uuid.uuid4()), "append": forearm}
    assert api.post(f"clips/{thin['id']}/writes", other).status_code == 200
    refused = api.post(f"clips/{thin['id']}/writes", body(str(uuid.uuid4()), 3, [mine]))
    assert refused.status_code == 409


class _BorrowParams(Params):
    pass


class _Borrow(Operation[_BorrowParams]):
    """The root's curves of another clip, on this one: what a line with an input is."""

    name = "borrow_root"
    title = "Borrow the root"
    step = "shape"
    inputs: ClassVar[Mapping[str, Input]] = {"source": Input("clip", "choose a clip")}
    Params: ClassVar[type[_BorrowParams]] = _BorrowParams

    def apply_with(self, clip, inputs, scope, params, progress=None):  # type: ignore[no-untyped-def]
        source = inputs["source"]
        names = {t: source.curves[t] for t in clip.channels if t.joint == 0}
        return Patch({t: SampledCurve(c.values * 2.0) for t, c in names.items()})


def test_a_lines_inputs_are_named_by_digest_and_part_of_what_is_remembered(
    api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setitem(OPERATIONS, "borrow_root", _Borrow())
    other = api.apply(clip, "offset", amount=5.0)
    sources = [clip["head"]["state"], other["head"]["state"]]
    api.post(f"clips/{clip['id']}/undo", {"revision": other["head"]["id"]})
    states = set()
    for source in sources:
        now = api.get(f"clips/{clip['id']}").json()
        line = {"operation": "borrow_root", "inputs": {"source": source}}
        done = api.write(now, append=line).json()
        states.add(done["head"]["state"])
        kept = Revision.objects.get(pk=done["head"]["id"]).recipe[-1]
        assert kept["inputs"] == {"source": source}
        assert replayed(done) == done["head"]["state"]
        api.post(f"clips/{clip['id']}/undo", {"revision": done["head"]["id"]})
    assert len(states) == 2
    missing = api.write(now, append={"operation": "borrow_root"})
    assert missing.status_code == 422
    assert "choose a clip" in missing.json()["detail"]
    gone = api.write(now, append={"operation": "borrow_root", "inputs": {"source": "0" * 64}})
    assert "not here any more" in gone.json()["detail"]


def test_a_kept_recipe_means_the_seconds_it_was_made_at(
    api: Api, clip: dict, workspace: Any
) -> None:
    """Made at 60 a second, run on a clip of 30: its frames and lengths are halved."""
    line = {"operation": "offset", "params": {"amount": 3.0, "ramp_in": 8},
            "scope": {"frames": [40, 80], "joints": ["Head"]}}  # fmt: skip
    path = f"workspaces/{workspace.pk}/recipes"
    kept = api.post(path, {"name": "lift", "lines": [line], "rate": [60, 1]}).json()
    half = api.apply(clip, "change_rate", rate="30")
    done = api.write(half, recipe=kept["id"]).json()
    made = done["head"]["recipe"][-1]
    assert made["scope"]["frames"] == [20, 40]
    assert made["params"]["ramp_in"] == 4
    assert new_line("offset", {}, {})["version"] == made["version"]


def test_edits_that_go_on_with_a_step_are_undone_with_it(api: Api, thin: dict) -> None:
    """Nudges of a key that come soon after each other: one revision to go back to."""
    before = thin["head"]["state"]
    clip = thin
    last = None
    for value in (1.0, 2.0, 3.0):
        change = {"operation": "edit", "params": {"keys": [edit_of(keys_of(clip), 2, value=value)]}}
        name = str(uuid.uuid4())
        clip = api.write(clip, append=change, request_id=name, goes_on=last).json()
        last = name
    assert keys_of(clip).value[2] == 3.0
    assert len(clip["head"]["recipe"]) == len(thin["head"]["recipe"]) + 1
    back = api.post(f"clips/{clip['id']}/undo", {"revision": clip["head"]["id"]}).json()
    assert back["head"]["state"] == before
    # What cannot be put together stays a step of its own.
    apart = {"operation": "smooth", "params": {"strength": 0.5}}
    after = api.write(back, append=apart, goes_on=last).json()
    undone = api.post(f"clips/{clip['id']}/undo", {"revision": after["head"]["id"]}).json()
    assert undone["head"]["state"] == before


def test_what_goes_on_with_a_step_leaves_one_that_came_between_alone(api: Api, thin: dict) -> None:
    """Two windows of one person nudge different keys at once, each a step of its own, none lost."""
    names = [str(uuid.uuid4()) for _ in range(4)]

    def nudge(n: int, channel: str, value: float, shown: dict = thin, **more: Any) -> dict:
        key = {**edit_of(keys_of(shown, channel=channel), 0, value=value), "channel": channel}
        change = {"operation": "edit", "params": {"keys": [key]}}
        done = api.write(thin, append=change, request_id=names[n], **more)
        assert done.status_code == 200, done.content
        return done.json()

    one = nudge(0, "ry", 1.0)
    two = nudge(1, "rz", 2.0)
    # Each is made on what its window had seen, and goes on with that window's own.
    between = nudge(2, "ry", 3.0, one, after=[names[0]], goes_on=names[0])
    clip = nudge(3, "rz", 4.0, two, after=[names[1]], goes_on=names[1])
    assert keys_of(clip).value[0] == 3.0
    assert keys_of(clip, channel="rz").value[0] == 4.0
    back = api.post(f"clips/{clip['id']}/undo", {"revision": clip["head"]["id"]}).json()
    assert back["head"]["state"] == between["head"]["state"]
