"""Partners as a part of a clip: their limits, their stored form, and how they follow time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, replace
from typing import Any

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.limits import LARGEST, require_name, require_within
from leancurve.document.moves import point_of
from leancurve.document.partner import Partner
from leancurve.document.parts.base import Part, Retimed, Values
from leancurve.errors import BadInput, short

DIGEST = 64
"""How long a digest is: hexadecimal digits of a SHA-256."""


def _values(partner: Partner) -> Values:
    return {**asdict(partner), "moved": list(partner.moved)}


def _item(values: Mapping[str, Any]) -> Partner:
    moved = {"moved": point_of(values["moved"])} if "moved" in values else {}
    return Partner(**{**values, **moved})


def _sound(clip: Clip) -> None:
    if len({p.name for p in clip.partners}) < len(clip.partners):
        raise BadInput("the clip: two partners have the same name")
    for partner in clip.partners:
        require_name(partner.name)
        told = short(partner.name)
        if len(partner.digest) != DIGEST or set(partner.digest) - set("0123456789abcdef"):
            raise BadInput(f"{told}: its digest is not a SHA-256's")
        numbers = np.array((*partner.moved, partner.turned, partner.later), dtype=np.float64)
        require_within(numbers, LARGEST, f"{told}: where it stands")


def _retimed(partner: Partner, time: Retimed) -> Partner:
    """One that begins where its first frame comes to lie. It plays forward, at its own pace, even
    where the clip does not."""
    return partner if time.backwards else replace(partner, later=round(time.begins(partner.later)))


PARTNERS = Part(
    "partners", "partners",
    values=_values,
    item=_item,
    key=lambda partner: partner.name,
    most=3,
    of_figure=True,
    sound=_sound,
    retimed=_retimed,
)  # fmt: skip
"""They stand where they were set beside this figure: another one is led elsewhere."""
