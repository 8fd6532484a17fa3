"""Vectors that hold the browser's layers to the core's: written here, read by Vitest.

``LEAN_WRITE_VECTORS=1 ./lean test tests/core/test_layering_vectors.py`` writes them anew.
"""

from __future__ import annotations

import json
import os
from dataclasses import asdict, replace
from fractions import Fraction
from typing import Any

import numpy as np
from leancurve.curves.curve import SampledCurve
from leancurve.document.clip import Clip, Placement
from leancurve.document.evaluation import evaluate
from leancurve.document.layer import Layer
from leancurve.document.track import TrackId, base_track
from leancurve.figure.skeleton import Skeleton
from leancurve.time.resample import resampled

from tests.conftest import PROJECT
from tests.core.laden import Load, laden

FILE = PROJECT / "web/src/evaluation/layering.vectors.json"
FRAMES = 12
PLACED = Placement((30.0, -4.0, 12.0), 50.0, 1.4, (5.0, 2.0, -3.0))
MOVES, TURNS = ("tx", "ty", "tz"), ("rx", "ry", "rz")


def layered() -> Clip:
    """Joints that turn by three channels, by one and by two, under layers of all kinds."""
    random = np.random.default_rng(5)
    turns = ("rz", "rx", "ry")
    layout = (("tx", "ty", "tz", *turns), turns, turns, ("rx",), ("ry", "rx"))
    names = ("Hips", "Spine", "Head", "Lid", "Flap")
    skeleton = Skeleton(names, (-1, 0, 1, 2, 3), ((0.0, 90.0, 0.0),) * 5)
    layers = (
        Layer(0, "one", layout=((0, (*MOVES, *TURNS)), (1, TURNS))),
        Layer(1, "two", layout=((1, TURNS), (2, ("ry",)), (3, TURNS), (4, TURNS)),
              mask=((1, 0.4),)),
        Layer(2, "off", layout=((2, ("rx",)),), muted=True),
        Layer(3, "numbers", "channels", layout=((0, ("ty", "rx")), (1, TURNS), (3, ("rx",)),
                                               (4, ("rx", "ry"))), mask=((1, 0.7),)),
        Layer(4, "poses", "override", layout=((0, MOVES), (2, TURNS)), mask=((2, 0.6),)),
    )  # fmt: skip
    tracks = [base_track(j, c) for j, names in enumerate(layout) for c in names]
    tracks += [t for layer in layers for t in layer.tracks]
    curves: dict[TrackId, Any] = {
        t: SampledCurve(random.uniform(0.2, 1.6, FRAMES) if t.name == "w"
                        else random.uniform(-60, 60, FRAMES)) for t in tracks
    }  # fmt: skip
    return Clip(skeleton, layout, curves, Fraction(60), FRAMES, layers=layers, placement=PLACED)


LADEN = (Load("sampled"), Load("sampled", "z", 1.0))
ABOUT_FIGURE = {"aim", "shut"}
"""Layers in the figure's space are led apart: :func:`figured`."""


def of_the_family(load: Load) -> Clip:
    """Some frames of a laden clip, under its layers and its placement."""
    clip = laden(load)
    layers = tuple(x for x in clip.layers if x.name not in ABOUT_FIGURE)
    bare = replace(clip, layers=layers, plants=(), props=())
    kept = replace(bare, curves={t: clip.curves[t] for t in bare.tracks})
    return resampled(kept, first=11, last=15)


def vectors() -> dict[str, Any]:
    clips = [layered(), *(of_the_family(load) for load in LADEN)]
    return {"clips": [of_clip(clip) for clip in clips], "figure": figured()}


def of_clip(clip: Clip) -> dict[str, Any]:
    """A clip with its layers, and how each joint stands below them and over them."""
    assert clip.placement is not None
    below, pose = evaluate(clip.below), evaluate(clip)
    joints = {
        j: {
            "below": below.rotation[:, j].tolist(),
            "moved": below.translation[:, j].tolist(),
            "rotation": pose.rotation[:, j].tolist(),
            "translation": pose.translation[:, j].tolist(),
        }
        for j in range(len(clip.skeleton))
    }
    layers = [
        {
            "id": x.id, "name": x.name, "kind": x.kind, "space": x.space, "muted": x.muted,
            "locked": x.locked, "channels": dict(x.layout), "mask": dict(x.mask),
        }
        for x in clip.layers
    ]  # fmt: skip
    frames = np.arange(clip.frames, dtype=np.float64)
    curves = {str(t): c.at(frames).tolist() for t, c in clip.curves.items()}
    return {
        "layers": layers, "placement": asdict(clip.placement), "curves": curves,
        "joints": joints, "channels": clip.layout, "offsets": clip.skeleton.offsets,
        "parents": clip.skeleton.parents, "up": clip.reading.up_axis,
        "adds": [clip.reading.root_positions, clip.reading.joint_positions],
    }  # fmt: skip


def figured() -> dict[str, Any]:
    """A layer in the figure's space before and after its curves changed, another one over it."""
    random = np.random.default_rng(6)
    clip = layered()
    aim = Layer(7, "aim", space="figure", layout=((0, ("rx",)), (2, TURNS)))
    over = Layer(8, "over", layout=((1, TURNS), (2, TURNS)))
    own = {t: c for t, c in clip.curves.items() if t.owner == "base"}

    def drawn() -> dict[TrackId, Any]:
        return {t: SampledCurve(random.uniform(0.2, 40, FRAMES)) for t in aim.tracks}

    own |= {t: SampledCurve(random.uniform(-30, 30, FRAMES)) for t in over.tracks}
    was, now = drawn(), drawn()
    both = [
        replace(clip, layers=(aim, over), curves=own | given, placement=None)
        for given in (was, now)
    ]
    values = [{str(t): c.values.tolist() for t, c in given.items()} for given in (was, now)]
    above = {str(t): c.values.tolist() for t, c in own.items() if t.owner == over.owner}
    return {
        "channels": dict(aim.layout),
        "over": {"channels": dict(over.layout), "curves": above},
        "before": {"curves": values[0], "rotation": evaluate(both[0]).rotation.tolist()},
        "after": {"curves": values[1], "rotation": evaluate(both[1]).rotation.tolist()},
    }


def test_the_browsers_layers_are_the_cores() -> None:
    made = json.loads(json.dumps(vectors()))
    if os.environ.get("LEAN_WRITE_VECTORS"):
        FILE.write_text(json.dumps(made, indent=1) + "\n")
    kept = json.loads(FILE.read_text())
    for when in ("before", "after"):
        gap = np.array(kept["figure"][when]["rotation"]) - made["figure"][when]["rotation"]
        assert np.abs(gap).max() < 1e-12
    for one, other in zip(kept["clips"], made["clips"], strict=True):
        assert one["layers"] == other["layers"]
        assert one["placement"] == other["placement"]
        for joint, parts in other["joints"].items():
            for name, values in parts.items():
                gap = np.array(one["joints"][joint][name]) - values
                assert np.abs(gap).max() < 1e-12
