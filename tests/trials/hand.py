"""A process of its own that works on a database, as a web server or a worker would, with small
caches: it reads commands as JSON lines and answers each with one.

``python -m tests.trials.hand`` with the application's environment. Kinds of work are methods of
:class:`Hand`; what goes wrong is answered as ``{"refused": …}`` where it was foreseen, and as
``{"failed": …}`` where it was not.
"""

from __future__ import annotations

import hashlib
import json
import multiprocessing
import subprocess
import sys
import traceback
import uuid
from datetime import timedelta
from typing import Any

from tests.conftest import PROJECT

NOW = timedelta(0)


class Hands:
    """The other side: a hand that is asked."""

    def __init__(self, environment: dict[str, str]) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "tests.trials.hand"],
            env={**environment, "PYTHONPATH": f"{environment['PYTHONPATH']}:{PROJECT}"},
            cwd=PROJECT, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
            text=True,
        )  # fmt: skip

    def ask(self, command: str, **given: Any) -> dict[str, Any]:
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        self.process.stdin.write(json.dumps({"command": command, **given}) + "\n")
        self.process.stdin.flush()
        answer: dict[str, Any] = json.loads(self.process.stdout.readline())
        return answer

    def end(self) -> None:
        assert self.process.stdin is not None
        self.process.stdin.close()
        self.process.wait()


class Hand:
    """What can be asked of a process."""

    def __init__(self) -> None:
        from django.contrib.auth.models import User
        from documents import store
        from editing import storage
        from library.models import Workspace

        # As after a day's work: most of what was at hand is not any more.
        store._curves._kept.__init__(400_000, store._curves._kept.getsizeof)  # type: ignore[misc]
        storage.NEWEST = 3
        self.user = User.objects.order_by("pk").first()
        self.workspace = Workspace.objects.order_by("pk").first()

    def told(self, clip_id: int) -> dict[str, Any]:
        """A clip as it stands: its head, the take beneath, and what its head shows."""
        from editing.models import Clip

        clip = Clip.objects.select_related("head__state").get(pk=clip_id)
        return {
            "clip": clip.pk, "head": clip.head_id, "number": clip.head.number,
            "beneath": clip.beneath_id, "shows": shown(clip.head),
            "lines": [x["line_id"] for x in clip.head.recipe],
        }  # fmt: skip

    def takes(self) -> dict[str, Any]:
        from library.models import Take

        return {"takes": list(Take.objects.filter(frames__gt=1).values_list("pk", flat=True))}

    def bring_in(self, name: str, data: str) -> dict[str, Any]:
        from leancurve.formats.files import read_take
        from library.intake import store_take
        from library.models import StoredFile
        from library.parsing import look

        raw = bytes.fromhex(data)
        stored = StoredFile.objects.create(
            workspace=self.workspace, name=name, data=raw, size=len(raw)
        )
        take = store_take(self.workspace, stored, look(read_take(raw, name), name))
        return {"take": take.pk}

    def open(self, take: int) -> dict[str, Any]:
        from editing.history import clip_of
        from library.models import Take

        return self.told(clip_of(Take.objects.get(pk=take), self.user).pk)

    def write(self, clip: int, base: int, **change: Any) -> dict[str, Any]:
        from editing.history import write
        from editing.outcomes import Change
        from editing.recipes import new_line
        from library.models import Take

        made = Change(remove=change.get("remove"))
        if "append" in change:
            made = Change(append=new_line(change["append"], change["params"], change["scope"]))
        elif "swap" in change:
            made = Change(swap=Take.objects.select_related("state").get(pk=change["swap"]))
        write(clip, base, uuid.uuid4(), made, self.user)
        return self.told(clip)

    def move(self, clip: int, base: int, how: str, to: int = 0) -> dict[str, Any]:
        from editing import undoing

        if how == "jump":
            undoing.jump(clip, base, to)
        else:
            getattr(undoing, how)(clip, base)
        return self.told(clip)

    def retarget(self, clip: int, base: int, target: int) -> dict[str, Any]:
        """Retargeted onto a take's skeleton: a clip of its own."""
        from editing import retargeting
        from editing.models import Revision
        from library import kinds
        from library.models import Job, Take

        revision = Revision.objects.select_related("clip__workspace", "state__header").get(pk=base)
        (job,) = retargeting.start(revision, [Take.objects.get(pk=target)], {}, self.user)
        kinds.run(job.pk)
        done = Job.objects.get(pk=job.pk)
        assert done.state == "done", done.message
        return {**self.told(done.result["clip"]), "take": done.result["take"]}

    def again(self, clip: int, base: int) -> dict[str, Any]:
        from editing import retargeting
        from editing.models import Clip

        retargeting.again(Clip.objects.get(pk=clip), base, uuid.uuid4(), self.user)
        return self.told(clip)

    def deliver(self, clip: int, base: int) -> dict[str, Any]:
        from delivery.handing import Asked, Named, start
        from delivery.models import Delivery
        from editing.models import Revision
        from leancurve.delivery.preset import Preset
        from library import kinds

        revision = Revision.objects.get(pk=base)
        form = Named("", Preset(rate=(60, 1), props=False))
        handed = start(
            self.workspace, self.user, [Asked(revision, 0, 20, "c", "a")], [form]
        ).clips.get()
        kinds.run(handed.job_id)
        made = Delivery.objects.get(handed=handed)
        return {"delivery": made.pk, "holds": hashlib.sha256(bytes(made.data)).hexdigest()}

    def bin(self, kind: str, pk: int) -> dict[str, Any]:
        from studio import bins

        bins.put_in(bins.KINDS[kind]._default_manager.get(pk=pk))
        return {}

    def put_back(self, kind: str, pk: int) -> dict[str, Any]:
        from studio import bins

        bins.put_back(self.workspace, kind, pk)
        return {}

    def empty(self) -> dict[str, Any]:
        from studio import bins

        return {"gone": bins.empty(self.workspace)}

    def tidy(self, prune: bool, sweep: bool) -> dict[str, Any]:
        from editing import storage, sweeping
        from editing.models import Clip

        pruned = sum(storage.prune(c, NOW) for c in Clip.objects.all()) if prune else 0
        swept = sweeping.sweep(NOW, storage.NEWEST) if sweep else {}
        return {"pruned": pruned, **swept, "troubles": sweeping.check()}

    def all(self) -> dict[str, Any]:
        """Everything there is, opened: revisions by clip, deliveries; with all caches empty."""
        from delivery.models import Delivery
        from documents import store
        from editing import patches, sweeping
        from editing.models import Clip

        patches.forget()
        store._clips.clear()
        store._curves.clear()
        clips = {}
        for clip in Clip.objects.all():
            revisions = clip.revisions.select_related("state")
            clips[clip.pk] = {r.pk: shown(r) for r in revisions}
        deliveries = {
            d.pk: hashlib.sha256(bytes(d.data)).hexdigest() for d in Delivery.objects.all()
        }
        seen = list(Clip.objects.seen_by(self.user).values_list("pk", flat=True))
        return {
            "clips": clips, "deliveries": deliveries, "seen": seen, "troubles": sweeping.check(),
        }  # fmt: skip

    def differ(self, by: float) -> dict[str, Any]:
        """From now on what is made again differs by so much, as on another processor."""
        from dataclasses import replace

        from documents import store
        from leancurve.curves.curve import SampledCurve

        real = store._again
        assert real is not None

        def shifted(state: Any) -> Any:
            patch = real(state)
            moved = {
                t: SampledCurve(c.values + by) if isinstance(c, SampledCurve) else c
                for t, c in patch.curves.items()
            }
            return replace(patch, curves=moved)

        store.make_again_with(shifted)
        return {}

    def import_file(self, path: str) -> dict[str, Any]:
        """A workspace of a file, and every page of it looked at."""
        from pathlib import Path

        from django.test import Client
        from leancurve.progress import silent
        from studio.moving import bring_in_file

        workspace = bring_in_file(Path(path), "hostile.zip", self.user, silent)
        client = Client()
        client.force_login(self.user, "studio.people.Members")
        client.raise_request_exception = False
        asked = [f"workspaces/{workspace.pk}/{x}" for x in (
            "takes", "recipes", "stored", "bin", "usage", "skeletons", "people", "batches",
        )]  # fmt: skip
        for clip in workspace.clips.all():
            at = f"clips/{clip.pk}"
            asked += [
                f"{at}{x}" for x in ("", "/history", "/deliveries", "/storage", "/retargeted")
            ]
            for r in clip.revisions.all():
                asked += [f"{at}/{x}?revision={r.pk}" for x in ("poses", "keys", "recipe")]
        answers = {path: client.get(f"/api/{path}").status_code for path in asked}
        wrong = {path: status for path, status in answers.items() if status >= 500}
        return {"workspace": workspace.pk, "asked": len(asked), "wrong": wrong}

    def export(self, path: str) -> dict[str, Any]:
        from studio.portable import export

        with open(path, "wb") as out:
            export(self.workspace, out)
        return {}


def shown(revision: Any) -> str:
    """What a revision shows, in a few letters: its poses to a millionth."""
    import numpy as np
    from documents.store import load_clip
    from leancurve.document.evaluation import evaluate

    pose = evaluate(load_clip(revision.state))
    numbers = np.concatenate([np.abs(pose.rotation).ravel(), pose.translation.ravel()])
    sums = [float(numbers.sum()), float((numbers * np.arange(len(numbers))).sum())]
    return " ".join(f"{x:.6e}" for x in (len(numbers), *sums))


def main() -> None:
    import django

    django.setup()
    from django.utils.module_loading import autodiscover_modules
    from leancurve.errors import BadInput

    autodiscover_modules("tasks")

    # Work apart begins with everything loaded, as a worker's does.
    multiprocessing.get_context("forkserver").set_forkserver_preload(["library.loaded"])
    hand = Hand()
    # What anything prints goes elsewhere: answers alone go out.
    out, sys.stdout = sys.stdout, sys.stderr
    for line in sys.stdin:
        given = json.loads(line)
        try:
            answer = getattr(hand, given.pop("command"))(**given)
        except BadInput as refused:
            answer = {"refused": str(refused)}
        except Exception as trouble:
            answer = {
                "failed": f"{type(trouble).__name__}: {trouble}",
                "at": traceback.format_exc(),
            }
        out.write(json.dumps(answer) + "\n")
        out.flush()


if __name__ == "__main__":
    main()
