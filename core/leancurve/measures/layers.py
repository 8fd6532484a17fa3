"""What each of a clip's layers changes, in numbers."""

from __future__ import annotations

from dataclasses import dataclass, replace

from leancurve.document.clip import Clip
from leancurve.document.evaluation import posed
from leancurve.document.layer import Layer
from leancurve.measures.drift import Drift, pose_drift


@dataclass(frozen=True)
class LayerChange:
    """A layer, the parts of the body that it touches, and how far the motion with it is from the
    motion without it, all other layers as they are; of one that is muted, how far it would be."""

    layer: Layer
    parts: tuple[str, ...]
    joints: tuple[str, ...]
    change: Drift


def layer_changes(clip: Clip) -> list[LayerChange]:
    """What each layer changes, bottom to top."""
    names = clip.skeleton.names
    out = []
    for at, layer in enumerate(clip.layers):
        other = replace(layer, muted=not layer.muted)
        turned = replace(clip, layers=(*clip.layers[:at], other, *clip.layers[at + 1 :]))
        on, off = (turned, clip) if layer.muted else (clip, turned)
        change = pose_drift(on, posed(on), off, posed(off))
        touched = set(layer.shares)
        parts = [g for g, joints in clip.body.groups.items() if touched & set(joints)]
        joints = tuple(names[j] for j in sorted(touched))
        out.append(LayerChange(layer, tuple(parts), joints, change))
    return out
