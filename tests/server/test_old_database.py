"""A database of an earlier version, brought up: every revision is what it was, and work goes on.

``tests/data/old_database.sql.gz`` is a dump of one in which a take was trimmed, smoothed, thinned
and edited by hand; ``old_database.json`` what each of its revisions held, told before the change.
"""

from __future__ import annotations

import gzip
import json
import os
import shutil
import subprocess
import sys
from typing import Any

import pytest

from tests import prepared
from tests.conftest import PROJECT

DATA = PROJECT / "tests/data"
NAME = f"lean_old_{os.getpid()}"

LOOK = """
import json, uuid
import django; django.setup()
import numpy as np
from django.contrib.auth.models import User
from editing.baseline import baseline_of
from documents.store import load_clip
from editing.history import write
from editing.outcomes import Change
from editing.models import Clip, Memo, Recipe, Revision
from editing.recipes import fresh_lines, new_line, replay, trail
from leancurve.document.evaluation import evaluate
from library.models import Skeleton, Take

revisions = {}
for r in Revision.objects.order_by("number"):
    clip = load_clip(r.state)
    pose = evaluate(clip)
    revisions[r.number] = {
        "frames": clip.frames, "keys": clip.key_count,
        "rotation_sum": float(np.abs(pose.rotation).sum()),
        "translation_sum": float(np.abs(pose.translation).sum()),
        "recipe": [line["operation"] for line in r.recipe],
        "baseline": baseline_of(r).frames,
        "remembered": Memo.objects.filter(pk__in=trail(r.clip.take.state, r.recipe)).count(),
    }
clip = Clip.objects.get()
head = clip.head
user = User.objects.get()
steps = replay(clip.take.state, head.recipe)
out = {
    "revisions": revisions,
    "skeletons": [[s.name, s.joints] for s in Skeleton.objects.all()],
    "take": Take.objects.get().skeleton.name,
    "replayed": steps[-1].state.hash == head.state_id,
    "thin": next(s.report for s in steps if s.line["operation"] == "thin"),
    "kept": [(x["operation"], x["version"], x["params"].get("contacts"))
             for x in fresh_lines(Recipe.objects.get().lines)],
}
smooth = next(x for x in head.recipe if x["operation"] == "smooth")
changed = write(clip.pk, head.pk, uuid.uuid4(),
                Change(edit={**new_line("smooth", {"strength": 0.9}, {}),
                             "line_id": smooth["line_id"]}), user)
out["changed"] = {"report": changed.report, "frames": load_clip(changed.state).frames}
print(json.dumps(out))
"""


@pytest.fixture(scope="module")
def looked() -> Any:
    url = prepared.address(NAME)
    psql = shutil.which("psql")
    assert psql, "psql comes with PostgreSQL"
    environment = {
        **os.environ,
        "LEAN_DATABASE_URL": url,
        "LEAN_SECRET_KEY": "only-for-tests-" * 4,
        "DJANGO_SETTINGS_MODULE": "config.settings",
        "LEAN_LOG_LEVEL": "WARNING",
        "PYTHONPATH": f"{PROJECT}/core:{PROJECT}/server",
    }
    prepared.copy(prepared.EMPTY, NAME)
    try:
        dump = gzip.decompress((DATA / "old_database.sql.gz").read_bytes())
        subprocess.run([psql, "-q", "-v", "ON_ERROR_STOP=1", url], input=dump, check=True,
                       stdout=subprocess.DEVNULL)  # fmt: skip
        manage = [sys.executable, PROJECT / "server/manage.py"]
        subprocess.run([*manage, "migrate", "-v0"], env=environment, check=True)
        done = subprocess.run(
            [sys.executable, "-c", LOOK], env=environment, check=True, stdout=subprocess.PIPE
        )
        yield json.loads(done.stdout)
    finally:
        prepared.drop(NAME)


def test_every_revision_holds_what_it_held(looked: Any) -> None:
    told = json.loads((DATA / "old_database.json").read_text())
    assert set(looked["revisions"]) == set(told)
    assert len(told) == 11
    for number, was in told.items():
        now = looked["revisions"][number]
        for name in ("frames", "keys", "recipe"):
            assert now[name] == was[name], number
        for name in ("rotation_sum", "translation_sum"):
            assert now[name] == pytest.approx(was[name], rel=1e-12), number
        assert now["baseline"] == was["frames"]


def test_what_was_computed_is_not_computed_again(looked: Any) -> None:
    """All lines are remembered under their new names; a line of hand work that had grown is
    remembered as the state that its revision held."""
    for now in looked["revisions"].values():
        assert now["remembered"] == len(now["recipe"])
    assert looked["replayed"]
    assert looked["thin"]["keys_after"] == 44


def test_skeletons_are_rows_of_their_own(looked: Any) -> None:
    assert looked["skeletons"] == [["Hips, 3 joints", 3]]
    assert looked["take"] == "Hips, 3 joints"


def test_kept_recipes_are_brought_up(looked: Any) -> None:
    """Thin of version 1 knew nothing of contacts."""
    assert [k[0] for k in looked["kept"]] == ["smooth", "thin"]
    assert looked["kept"][1] == ["thin", 4, False]


def test_a_line_can_be_changed_and_edits_are_made_or_listed(looked: Any) -> None:
    assert looked["changed"]["frames"] == 36
    for lost in looked["changed"]["report"].get("unplaced", []):
        assert lost["operation"] == "edit"
