"""Reorder: another rotation order for joints, the motion as it is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.cleaning.gimbal import rate_orders
from leancurve.cleaning.thinning import find_landmarks, fit
from leancurve.curves.curve import Curve, SampledCurve, made_anew
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.reordering import layers_reordered
from leancurve.document.rotations import angles_afresh
from leancurve.document.track import TrackId, base_track
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent

WORTH = 3.0
"""A change is worth it where it takes the strain to a third (measured: below that, keys and
steps hardly change)."""


class ReorderParams(Params):
    order: Literal["best", "XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX"] = Field(
        "best", description="the order that angles are given in; best takes the one of least strain"
    )
    gain: float = number(
        WORTH, "×", "change a joint only if its strain falls by this much",
        when={"order": ["best"]}, ge=1, le=1000,
    )  # fmt: skip
    tolerance_deg: float = number(
        0.05, "°", "largest error of each channel where keyed curves are fitted again", gt=0, le=10
    )


class Reorder(Operation[ReorderParams]):
    """Give joints another rotation order; every pose stays, keyed curves are fitted again.

    ``{"order": "best"}`` gives each joint in scope the order that stays farthest from the
    gimbal, where that is worth it. Joints with fewer than three rotation channels stay.
    """

    name = "reorder"
    title = "Change rotation orders"
    step = "unflip"
    keeps = "motion"
    Params: ClassVar[type[ReorderParams]] = ReorderParams

    def apply(
        self, clip: Clip, scope: Scope, params: ReorderParams, progress: Progress = silent
    ) -> Patch:
        wanted = sorted({c.joint for c in scope.resolve(clip) if c.turns})
        wanted = [j for j in wanted if len(clip.order(j)) == 3 and _tait_bryan(clip.order(j))]
        local = evaluate(clip.below).rotation
        layout = list(clip.layout)
        curves: dict[TrackId, Curve] = {}
        before = after = 0
        changed: list[dict[str, Any]] = []
        for done, joint in enumerate(wanted, start=1):
            ratings = {r.order: r for r in rate_orders(local[:, joint])}
            old = clip.order(joint)
            new = _chosen(params, old, {o: r.strain for o, r in ratings.items()})
            if new != old:
                channels = [base_track(joint, f"r{a.lower()}") for a in old]
                before += sum(clip.curves[c].key_count for c in channels)
                fresh = self._channels(clip, joint, local[:, joint], new, params)
                after += sum(c.key_count for c in fresh.values())
                curves.update(fresh)
                turns = iter(f"r{a.lower()}" for a in new)
                layout[joint] = tuple(next(turns) if c[0] == "r" else c for c in layout[joint])
                changed.append(
                    {
                        "joint": clip.skeleton.names[joint],
                        "from": old,
                        "to": new,
                        "strain_before": round(ratings[old].strain, 2),
                        "strain_after": round(ratings[new].strain, 2),
                    }
                )
            progress(done / len(wanted))
        layers = clip.layers
        if changed:
            there = replace(clip, layout=tuple(layout), curves={**clip.curves, **curves})
            joints = [clip.skeleton.index(c["joint"]) for c in changed]
            layers, told = layers_reordered(clip, there, joints, partial(_fitted, clip, params))
            curves |= told
        return Patch(
            curves=curves,
            layout=tuple(layout) if changed else None,
            layers=layers if layers != clip.layers else None,
            report={
                "joints": len(changed),
                "changed": changed,
                "keys_before": before,
                "keys_after": after,
            },
        )

    def _channels(
        self, clip: Clip, joint: int, local: Any, order: str, params: ReorderParams
    ) -> dict[TrackId, Curve]:
        """The joint's curves in the new order: sampled where they were, else fitted again."""
        angles = angles_afresh(local, order)
        old = [clip.curves[base_track(joint, f"r{a.lower()}")] for a in clip.order(joint)]
        return {
            base_track(joint, f"r{axis.lower()}"): _fitted(
                clip, params, np.ascontiguousarray(angles[:, k]), old
            )
            for k, axis in enumerate(order)
        }

    def told(self, params: Any) -> str:
        order = params.get("order", "best")
        return "Best rotation orders" if order == "best" else f"Rotation order {order}"


def _fitted(clip: Clip, params: ReorderParams, values: Floats, old: Sequence[Curve]) -> Curve:
    """Values ``(F,)`` in the place of curves: a value on every frame where one of them had that."""
    if clip.frames < 2 or any(isinstance(c, SampledCurve) for c in old):
        return SampledCurve(values)
    marks = find_landmarks(values, params.tolerance_deg, float(clip.rate), least=1.0)
    return made_anew(fit(values, params.tolerance_deg, marks))


def _tait_bryan(order: str) -> bool:
    return order in rotation.TAIT_BRYAN


def _chosen(params: ReorderParams, old: str, strains: dict[str, float]) -> str:
    if params.order != "best":
        return params.order
    best = min(strains, key=lambda o: strains[o])
    return best if strains[old] >= params.gain * strains[best] else old
