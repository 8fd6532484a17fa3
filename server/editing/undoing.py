"""Undo, redo, and any revision as the head: nothing is computed, nothing is lost."""

from collections.abc import Callable

from django.db import transaction
from documents.store import Gone, load_clip
from leancurve.errors import BadInput
from library.models import Take
from plumbing.logs import note

from editing.history import Conflict
from editing.models import Clip, Revision
from editing.outcomes import take_state_of


def _move(clip_id: int, base_id: int, target: Callable[[Clip], Revision | None]) -> Revision:
    with transaction.atomic():
        clip = Clip.objects.select_for_update().get(pk=clip_id)
        head = Revision.objects.get(pk=clip.head_id)
        if head.pk != base_id:
            raise Conflict(head, ["the history has moved on"], ["undo or redo"], base_id)
        there = target(clip)
        if there is None:
            return head
        _require_readable(there)
        clip.head = there
        clip.beneath_id = there.take_id or clip.take_id
        clip.save(update_fields=["head", "beneath", "opened"])
        bring_out(clip.beneath_id)
    note(revision=there.pk)
    return there


def bring_out(take_id: int) -> None:
    """A take that a clip lies on again is in no bin any more."""
    Take.objects.filter(pk=take_id).exclude(binned=None).update(binned=None, hidden=False)


def _require_readable(there: Revision) -> None:
    """Nobody is led to what cannot be shown: the clip stays where it is."""
    try:
        load_clip(there.state)
        load_clip(take_state_of(there))
    except Gone as trouble:
        raise BadInput(
            f"revision {there.number} cannot be shown: its curves were deleted to save space, and "
            f"{trouble.why}. The clip stays as it is; revisions around it may be whole"
        ) from trouble


def parents_of(clip: Clip) -> dict[int, int | None]:
    """The parent of each of a clip's revisions."""
    return dict(Revision.objects.filter(clip=clip).values_list("pk", "parent_id"))


def jump(clip_id: int, base_id: int, to: int) -> Revision:
    """Any revision of the clip becomes the head: nothing is lost, redo leads on from there.

    Where the revision lies on the branch that is being worked on, its tip stays.
    """

    def target(clip: Clip) -> Revision:
        there = Revision.objects.filter(clip=clip, pk=to).first()
        if there is None:
            raise BadInput("that revision is not one of this clip")
        parents = parents_of(clip)
        at: int | None = clip.tip_id
        while at is not None and at != to:
            at = parents[at]
        if at is None:
            clip.tip = newest_of_branch(parents, there)
            clip.save(update_fields=["tip"])
        return there

    return _move(clip_id, base_id, target)


def newest_of_branch(parents: dict[int, int | None], start: Revision) -> Revision:
    """The end of the branch that goes on from a revision: at each fork the newest child."""
    children: dict[int, int] = {}
    for pk, parent in sorted(parents.items()):
        if parent is not None:
            children[parent] = pk
    at = start.pk
    while at in children:
        at = children[at]
    return start if at == start.pk else Revision.objects.get(pk=at)


def undo(clip_id: int, base_id: int) -> Revision:
    """The head's parent becomes the head; at the first revision nothing happens."""
    return _move(clip_id, base_id, lambda clip: Revision.objects.get(pk=clip.head_id).parent)


def redo(clip_id: int, base_id: int) -> Revision:
    """The next revision towards the tip becomes the head."""

    def towards_tip(clip: Clip) -> Revision | None:
        parents = parents_of(clip)
        at = clip.tip_id
        while at is not None and at != clip.head_id:
            if parents[at] == clip.head_id:
                return Revision.objects.get(pk=at)
            at = parents[at]
        return None

    return _move(clip_id, base_id, towards_tip)
