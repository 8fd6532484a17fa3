"""Parts that plants hold: the limb or the chain by which each is led."""

from __future__ import annotations

from leancurve.document.clip import Clip
from leancurve.document.plant import Plant
from leancurve.errors import BadInput
from leancurve.figure.feet import Chain, Limb, chain_to, limbs_of


def _limb_of_part(clip: Clip, part: str) -> Limb | None:
    limbs = limbs_of(clip.skeleton, clip.body)
    by_part = (x for x in limbs if part in x.parts)
    by_joint = (x for x in limbs if clip.skeleton.names[x.end] == part)
    return next(by_part, None) or next(by_joint, None)


def holding(clip: Clip, plant: Plant) -> Limb | Chain | None:
    """The limb that a plant works on, None where this figure has none that can."""
    if plant.with_joint and plant.with_joint not in clip.skeleton.names:
        return None
    if plant.with_prop and clip.prop_at(plant.with_prop) is None:
        return None
    found = _limb_of_part(clip, plant.part)
    if found is None:
        return _chain_of_part(clip, plant.part)
    return found if turns_freely(clip, found) else None


def _chain_of_part(clip: Clip, part: str) -> Chain | None:
    if part not in clip.skeleton.names:
        return None
    joint = clip.skeleton.index(part)
    turning = [len(order) == 3 for order in clip.orders]
    return chain_to(clip.skeleton, clip.body, turning, joint) if turning[joint] else None


def limb_of(clip: Clip, part: str) -> Limb | Chain:
    """The limb by which a part is held; :class:`BadInput` where none can hold it."""
    found = _limb_of_part(clip, part)
    chain = _chain_of_part(clip, part) if found is None else None
    if chain is not None:
        return chain
    if found is None:
        limbs = limbs_of(clip.skeleton, clip.body)
        known = ", ".join(p for limb in limbs for p in limb.parts) or "none"
        raise BadInput(f"{part}: no part that can be planted; there are {known}")
    for joint in found.joints:
        if len(clip.order(joint)) != 3:
            name = clip.skeleton.names[joint]
            raise BadInput(f"{part}: {name} has not three rotation channels, so it cannot be led")
    return found


def turns_freely(clip: Clip, limb: Limb) -> bool:
    """Whether all joints of a limb have three rotation channels to be led by."""
    return all(len(clip.order(j)) == 3 for j in limb.joints)
