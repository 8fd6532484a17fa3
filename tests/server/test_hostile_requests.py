"""Requests that mean no good, or were mangled on their way: refused by name, never a bare 500."""

from __future__ import annotations

import json
import threading
import uuid
from typing import Any

import pytest
from django.db import connections
from editing import batches, history, outcomes
from editing.models import Revision
from library import kinds
from library.models import Job, Take, Workspace

from tests.server.conftest import Api


def raw(api: Api, path: str, body: bytes, kind: str = "application/json") -> Any:
    return api.client.generic(
        "POST", f"/api/{path}", body, content_type=kind, headers={"X-CSRFToken": api.token}
    )


BODIES: dict[str, tuple[str, str]] = {
    "NUL in a text": ('{"operation": "unf\\u0000lip"}', "operation: contains characters"),
    "half a surrogate pair": ('{"operation": "\\ud800"}', "not valid JSON"),
    "a name that is none": (
        '{"operation": "unflip", "scope": {"joints": ["\\u0000"]}}',
        "joints[0]",
    ),
    "NaN": ('{"operation": "offset", "params": {"amount": NaN}}', "not valid JSON"),
    "over 64 bits": (
        '{"operation": "insert_frames", "params": {"after": 99999999999999999999}}', "within ±2^53"
    ),
    "frames over 64 bits": (
        '{"operation": "unflip", "scope": {"frames": [0, 1e30]}}', "scope.frames[1]"
    ),
    "keys that are none": ('{"operation": "gain", "scope": {"keys": [["Hips"]]}}', ""),
    "keys of keys": ('{"operation": "gain", "scope": {"keys": [[[], {}, null, "x"]]}}', ""),
}  # fmt: skip


@pytest.mark.parametrize("name", BODIES)
def test_a_write_is_refused_with_the_fields_name(api: Api, clip: dict, name: str) -> None:
    append, says = BODIES[name]
    body = (
        f'{{"revision": {clip["head"]["id"]}, "request_id": "{uuid.uuid4()}", "append": {append}}}'
    )
    answer = raw(api, f"clips/{clip['id']}/writes", body.encode())
    assert answer.status_code == 422, answer.content
    assert says in json.dumps(answer.json(), ensure_ascii=False)
    assert Revision.objects.count() == 1


def test_a_body_of_another_kind_is_refused(api: Api, clip: dict) -> None:
    body = b'--x\r\nContent-Disposition: form-data; name="a"\r\n\r\n1\r\n--x--\r\n'
    answer = raw(api, f"clips/{clip['id']}/writes", body, "multipart/form-data; boundary=x")
    assert answer.status_code == 422
    assert "expected JSON" in answer.json()["detail"]
    assert raw(api, f"clips/{clip['id']}/writes", b"{" * 5_000_000).status_code == 422


def test_a_camera_holds_numbers(api: Api, clip: dict) -> None:
    body = b'{"position": [NaN, 0, 0], "target": [0, 0, 0], "fov": 40}'
    answer = api.client.generic(
        "PUT", f"/api/clips/{clip['id']}/camera", body, content_type="application/json",
        headers={"X-CSRFToken": api.token},
    )  # fmt: skip
    assert answer.status_code == 422


@pytest.mark.parametrize(
    "path",
    [
        "clips/99999999999999999999", "clips/3000000000", "takes/99999999999999999999",
        "clips/1/findings?revision=99999999999999999999", "clips/1/findings?revision=3000000000",
        "clips/1/poses?revision=1&joints=%00", "workspaces/1/jobs?kind=%00",
        "clips/1/curves?revision=1&joints=99999999999999999999",
    ],
)  # fmt: skip
def test_no_address_breaks_the_server(api: Api, clip: dict, path: str) -> None:
    assert api.get(path).status_code in (404, 422)


def test_what_an_operation_would_leave_is_refused_and_nothing_is_kept(api: Api, clip: dict) -> None:
    for name, params in (
        ("clamp", {"least": 0.0, "soft": 1e300}),
        ("repeat", {"first": 0, "last": 199, "times": 100_000}),
        ("change_rate", {"rate": "1/100000000000000"}),
    ):
        answer = api.write(clip, append={"operation": name, "params": params})
        assert answer.status_code == 422, (name, answer.content)
        assert len(answer.content) < 500
    assert Revision.objects.count() == 1


def test_contacts_of_one_and_keys_of_another_are_no_conflict(api: Api, clip: dict) -> None:
    thin = api.apply(api.apply(clip, "unflip"), "thin", tolerance_deg=1.0)
    api.apply(thin, "find_contacts")
    # Made on the revision before: they touch other parts of the clip.
    mine = api.write(thin, append={"operation": "gain", "params": {"factor": 1.1}})
    assert mine.status_code == 200, mine.content
    # The same part is one: two who set contacts.
    both = api.write(thin, append={"operation": "find_contacts", "params": {"speed": 300}})
    assert both.status_code == 409
    assert both.json()["theirs"]


def test_a_take_of_a_batch_goes_on_from_what_somebody_changed_meanwhile(
    api: Api, workspace: Workspace, take: Take, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    body = {"recipe": 0, "takes": [take.pk]}
    batch = api.post(f"workspaces/{workspace.pk}/batches", body).json()
    inspected = batches.inspect
    changed = []

    def change_meanwhile(state: Any) -> Any:
        if not changed:
            changed.append(api.apply(clip, "unflip"))
        return inspected(state)

    monkeypatch.setattr(batches, "inspect", change_meanwhile)
    kinds.run(batch["rows"][0]["job"])
    job = Job.objects.get(pk=batch["rows"][0]["job"])
    assert (job.state, job.message) == ("done", "")
    lines = [x["operation"] for x in Revision.objects.get(pk=job.result["revision"]).recipe]
    assert lines[:2] == ["read", "unflip"]
    assert lines[-1] == "check"


@pytest.mark.django_db(transaction=True)
def test_a_write_sent_six_times_at_once_is_made_once(api: Api, clip: dict) -> None:
    revision = Revision.objects.get(pk=clip["head"]["id"])
    request = uuid.uuid4()
    line = {"operation": "unflip", "params": {}, "scope": {}}
    made: list[Any] = []

    def send() -> None:
        try:
            from editing.recipes import new_line

            change = outcomes.Change(append=new_line(**line))
            made.append(history.write(clip["id"], revision.pk, request, change, revision.author).pk)
        except Exception as trouble:
            made.append(trouble)
        finally:
            connections.close_all()

    senders = [threading.Thread(target=send) for _ in range(6)]
    for sender in senders:
        sender.start()
    for sender in senders:
        sender.join()
    assert len(made) == 6
    assert len(set(made)) == 1, made
    assert Revision.objects.filter(request_id=request).count() == 1


@pytest.mark.parametrize("keys", [["x"], [[1]], [["Hips", "rx", "no id", 1]]])
def test_a_scope_that_is_none_is_refused_wherever_it_is_asked_with(
    api: Api, clip: dict, keys: list
) -> None:
    head, scope = clip["head"]["id"], {"keys": keys}
    wanted = {"revision": head, "operation": "unflip", "scope": scope}
    for path, body in (
        ("preview", wanted),
        ("preview/whole", wanted),
        ("refit", {"revision": head, "scope": scope}),
    ):
        answer = api.post(f"clips/{clip['id']}/{path}", body)
        assert answer.status_code == 422, (path, answer.content)


def test_a_recipe_is_kept_at_a_rate_that_there_is(api: Api, workspace: Workspace) -> None:
    wanted = {"name": "r", "lines": [{"operation": "unflip"}], "rate": [0, 0]}
    refused = api.post(f"workspaces/{workspace.pk}/recipes", wanted)
    assert refused.status_code == 422
    assert api.get(f"workspaces/{workspace.pk}/recipes").status_code == 200
