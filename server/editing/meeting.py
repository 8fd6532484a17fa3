"""Two figures that meet half way: a point between both hands in either clip, and each held on it.

The point is half way between the figures as they are before their plants, so that neither waits for
the other: what is planted in one clip moves nothing in the other.
"""

import uuid
from dataclasses import dataclass
from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from documents.models import State
from documents.store import load_clip
from leancurve.document.clip import Clip as Document
from leancurve.document.names import free_name
from leancurve.errors import BadInput, short
from leancurve.figure.feet import limbs_of
from leancurve.joining.beside import Stand, stand_between

from editing import history
from editing.asking import asked_line
from editing.inputs import sources_of
from editing.models import Clip, Revision
from editing.outcomes import Change

POINT = [80.0, 80.0, 80.0]
"""How large the point is, millimetres."""


@dataclass(frozen=True)
class Meeting:
    """A joint of the clip, one of its partner's, and the frames on which both are held."""

    partner: str
    joint: str
    theirs: str
    first: int
    last: int


def meet(base: Revision, met: Meeting, request: uuid.UUID, user: AbstractBaseUser) -> Revision:
    """Plant a part of the clip and one of its partner's, in that one's own clip, at one place
    between them; the partner is then as its clip has become. Asked twice, it is done once.

    :class:`BadInput` where the partner's clip is not here or has changed, or a joint is none that
    can be planted.
    """
    clip = load_clip(base.state)
    partner = next((p for p in clip.partners if p.name == met.partner), None)
    if partner is None:
        raise BadInput(f"there is no partner {short(met.partner)}")
    source = next(iter(sources_of(base.clip, [(partner.digest, partner.name)])), None)
    if source is None:
        raise BadInput(f"{short(partner.name)}: the partner's clip is not here any more")
    once = uuid.uuid5(request, "theirs planted")
    theirs = Clip.objects.select_related("head").get(pk=source["clip"])
    done = Revision.objects.filter(clip=theirs, request_id=once).exists()
    if source["newest"] != partner.digest and not done:
        raise BadInput(f"{short(partner.name)} has changed since: update the partner first")
    pinned = Revision.objects.get(pk=source["revision"])
    other = load_clip(State.objects.select_related("header").get(pk=partner.digest))
    stand = Stand.of(clip, partner)
    pace = float(other.rate / clip.rate)
    first, last = (round((f - partner.later) * pace) for f in (met.first, met.last))
    if not 0 <= first <= last < other.frames:
        raise BadInput(f"{short(partner.name)} has no frames {first} to {last} to be held on")
    here = _Side(base, clip, met.joint, (met.first, met.last), partner.name, "ours")
    there = _Side(pinned, other, met.theirs, (first, last), base.clip.name, "theirs")
    # Both are looked at before anything is written.
    parts = here.part, there.part
    held = _held(here, there, parts[0], stand, request, user)
    new = _held(there, here, parts[1], stand_between(clip, other, stand), request, user)
    params = {"edits": [{"do": "set", "name": partner.name, "other": 0}]}
    named = {"figures": [new.state_id]}
    line = asked_line(held, "edit_partners", params, {}, named)
    return history.write(held.clip_id, held.pk, uuid.uuid5(request, "partner"), Change(line), user)


@dataclass(frozen=True, eq=False)
class _Side:
    """One of two clips that meet, as it stood before."""

    base: Revision
    clip: Document
    joint: str
    frames: tuple[int, int]
    beside: str
    side: str

    @property
    def part(self) -> str:
        """What a plant can hold of the joint's limb."""
        if self.joint not in self.clip.skeleton.names:
            raise BadInput(f"no joint is named {short(self.joint)}")
        role = self.clip.body.joints[self.clip.skeleton.index(self.joint)].role
        limbs = limbs_of(self.clip.skeleton, self.clip.body)
        if role not in {part for limb in limbs for part in limb.parts}:
            raise BadInput(f"{short(self.joint)} is no hand that can be planted")
        return role


def _held(
    own: _Side, other: _Side, part: str, stand: Stand, request: uuid.UUID, user: AbstractBaseUser
) -> Revision:
    """A clip with the point that is half way, and its part held there."""
    name = free_name(f"{own.beside[:40]}, {part}", {prop.name for prop in own.clip.props})
    edit = {
        "do": "add", "name": name, "shape": "point", "size": POINT,
        "joints": [other.joint], "other": 0, "half": own.joint, "later": stand.later,
        "moved": [v * own.clip.millimetres for v in stand.moved], "turned": stand.turned,
    }  # fmt: skip
    given = {"others": [other.base.state_id]}
    made = _written(own, own.base, "edit_props", edit, request, user, given)
    first, last = own.frames
    plant = {
        "do": "add", "part": part, "first": first, "last": last, "with_prop": name,
        "place": [0.0, 0.0, 0.0],
    }  # fmt: skip
    return _written(own, made, "edit_plants", plant, request, user)


def _written(
    own: _Side,
    base: Revision,
    operation: str,
    edit: dict[str, Any],
    request: uuid.UUID,
    user: AbstractBaseUser,
    inputs: dict[str, Any] | None = None,
) -> Revision:
    line = asked_line(base, operation, {"edits": [edit]}, {}, inputs)
    told = {"edit_props": "made", "edit_plants": "planted"}[operation]
    once = uuid.uuid5(request, f"{own.side} {told}")
    return history.write(base.clip_id, base.pk, once, Change(line), user)
