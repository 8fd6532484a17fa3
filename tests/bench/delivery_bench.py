"""What is delivered: writing each format, splines fitted, a day with one worker and with two."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np
from leancurve.curves.curve import KeyedCurve
from leancurve.delivery.making import made
from leancurve.delivery.preset import Preset
from leancurve.demo import TAKES
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.formats.bvh import write_bvh
from leancurve.formats.scene.splines import PER_FRAME, spline_of
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.time.resample import resampled

from tests.bench.core_bench import calmed
from tests.bench.tables import Table, best, ms
from tests.conftest import read_open_capture
from tests.e2e.application import Application
from tests.trials.people import Person, make_people, running

DAY = 20
LONG_S = 600


def run() -> list[Table]:
    long = TAKES[0].clean()
    return [written(long), splines(calmed(read_open_capture()))]


def written(clip: Clip) -> Table:
    """A file of each format, of a clip that is sampled."""
    table = Table(
        f"Writing: {clip.frames} frames, {len(clip.skeleton)} joints",
        ("format", "size", "time", "ratio to BVH"),
    )
    ours = best(lambda: made(clip, Preset(format="bvh")), runs=3)
    for kind in ("bvh", "json", "glb", "gltf", "usdc", "usda", "csv", "csv-world"):
        form = Preset(format=kind)
        size = len(made(clip, form).data)
        took = best(lambda form=form: made(clip, form), runs=2)
        table.add(form.format, f"{size / 1e6:.1f} MB", ms(took), f"{took / ours:.2f}")
    floor = Preset(format="glb", root="floor", without=("fingers", "ends"))
    took = best(lambda: made(clip, floor), runs=2)
    size = len(made(clip, floor).data)
    table.add(
        "glb, root on the floor, no fingers", f"{size / 1e6:.1f} MB", ms(took), f"{took / ours:.2f}"
    )
    return table


def splines(clip: Clip) -> Table:
    """Splines of a thinned capture from its own key times; and a key on each frame beside them."""
    thin = apply_patch(clip, OPERATIONS["thin"].run(clip))
    table = Table(
        f"Fitted splines: open capture, thinned, {thin.frames} frames",
        ("within", "key times", "keys", "keys ÷ key times", "over", "time", "at most"),
    )
    turns = rotation.hemisphere(
        evaluate(resampled(thin, PER_FRAME * thin.rate, planted=True)).rotation
    )
    for within, most in ((0.25, "1.1, 2 s"), (0.1, "1.3")):
        times = keys = over = 0
        spent = 0.0
        for joint in range(len(thin.skeleton)):
            curves = [
                c for t in thin.turns_of(joint) if isinstance(c := thin.curves[t], KeyedCurve)
            ]
            if not curves:
                continue
            at = np.unique(np.rint(PER_FRAME * np.concatenate([c.time for c in curves])))
            corners = np.concatenate([c.time[c.slope_in != c.slope_out] for c in curves])
            broken = np.unique(np.rint(PER_FRAME * corners)).astype(np.int64)
            wanted = np.ascontiguousarray(turns[:, joint])
            spline_of(wanted[:99], at[:1].astype(np.int64), broken[:0], within, True)
            began = time.perf_counter()
            made_of = spline_of(wanted, at.astype(np.int64), broken, within, True)
            spent += time.perf_counter() - began
            times, keys = times + len(at), keys + len(made_of.keys)
            over += made_of.worst > within
        table.add(
            f"{within}°",
            f"{times:,}",
            f"{keys:,}",
            f"{keys / times:.3f}",
            str(over),
            ms(spent),
            most,
        )
    return table


def day() -> list[Table]:
    """Twenty takes with one preset, by one worker and by two, which do one job at once each; and by
    one that does two, as it comes."""
    table = Table(
        f"A day: {DAY} takes of 10 s at once, with one preset",
        ("workers, jobs at once of each", "takes a minute", "ratio"),
    )
    walk = write_bvh(resampled(TAKES[2].clean(), first=0, last=599))
    with (
        tempfile.TemporaryDirectory() as folder,
        running(Path(folder), "lean_bench") as application,
    ):
        workspace = make_people(application.environment, ["hand"], "A day")
        person = Person(application.url, "hand").sign_in()
        clips = [person.bring_in(workspace, f"walk {k}.bvh", walk) for k in range(DAY)]
        takes = [clip["take"] for clip in clips]
        deliver(person, workspace, takes[:2])  # once, with everything loaded
        usual = deliver(person, workspace, takes)
        application.environment["LEAN_JOBS"] = "1"
        Application.kill(application.worker)
        application.start_worker()
        deliver(person, workspace, takes[:2])
        one = deliver(person, workspace, takes)
        second = application.another_worker()
        try:
            deliver(person, workspace, takes[:4])
            two = deliver(person, workspace, takes)
        finally:
            Application.kill(second)
    table.add("1, 1", f"{60 * DAY / one:.1f}", "1.00")
    table.add("2, 1", f"{60 * DAY / two:.1f}", f"{one / two:.2f} (at least 1.6)")
    table.add("1, 2", f"{60 * DAY / usual:.1f}", f"{one / usual:.2f}")
    return [table]


def deliver(person: Person, workspace: int, takes: list[int]) -> float:
    """Seconds from the press to the last file."""
    asked = {"takes": takes, "presets": [0], "again": True}
    began = time.perf_counter()
    started = person.ask("POST", f"workspaces/{workspace}/handovers", asked).json()
    while time.perf_counter() - began < LONG_S:
        told = person.ask("GET", f"handovers/{started['id']}").json()
        states = {clip["state"] for clip in told["clips"]}
        if states == {"done"}:
            return time.perf_counter() - began
        assert "failed" not in states, told
        time.sleep(0.2)
    raise AssertionError("the delivery does not end")
