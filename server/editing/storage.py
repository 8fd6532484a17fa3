"""What is kept: curves of old revisions that can be made again are not, and what nothing refers to
any more is swept away.
"""

import logging
from datetime import timedelta

from django.db import transaction
from django.db.models import Q, QuerySet
from django.utils import timezone
from documents.models import State
from documents.packing import packed
from documents.store import Gone, load_clip, made_anew, stored_bytes
from documents.witness import SAME, differs_by, headers_agree, witness_of
from leancurve.operations import operation_named
from library.models import Take
from procrastinate.contrib.django import app as queue

from editing import sweeping
from editing.models import Clip, Revision, StoredMotion
from editing.sweeping import AGE

log = logging.getLogger("lean.storage")

NEWEST = 50
"""Revisions of a clip whose curves are kept in any case, but for a clip that keeps a lot."""
A_LOT = 2**23
"""Bytes of a clip's revisions from which it keeps a lot, as one does whose layers have a value on
every frame of all joints."""
NEWEST_OF_A_LOT = 5
"""Revisions of such a clip whose curves are kept in any case."""
MOST_MS = 2000.0
"""The longest that making a state again may take, from the nearest one that is kept."""
MOST_IN_A_ROW = 12
"""States that are made one of another until there is one whose curves are kept."""


def prune(clip: Clip, age: timedelta = AGE) -> int:
    """Do without the curves of old revisions that a line makes again in a moment; how many.

    Hand work is kept, and so is what is shown, what was used lately, what a take is, and every
    checkpoint from which the next ones are made. Each is made once more before it is given up, and
    stays whole where that does not give the same.
    """
    revisions = list(clip.revisions.select_related("state__header").order_by("-number"))
    kept = _kept_whole(clip)
    states = State.objects.filter(pk__among={r.state_id for r in revisions})
    newest = NEWEST if stored_bytes(states) < A_LOT else min(NEWEST, NEWEST_OF_A_LOT)
    for revision in revisions[:newest]:
        kept |= {revision.state_id, revision.before_id}
    count = 0
    for revision in reversed(revisions[newest:]):
        state = revision.state
        try:
            if state.pk not in kept and _may_go(revision, age) and _comes_out_the_same(state):
                witness = witness_of(load_clip(state))
                State.objects.filter(pk=state.pk).update(pruned=True, witness=witness)
                count += 1
        except Exception:
            # One that cannot be made again is in nobody's way.
            log.exception("a state could not be pruned", extra={"state": state.pk})
    return count


def _kept_whole(clip: Clip) -> set[str]:
    """States of a clip that something refers to as they are."""
    ours = Revision.objects.filter(clip=clip)
    kept: set[str] = set()
    for found in (
        Take.objects.filter(state__in=ours.values("state")).values_list("state_id", flat=True),
        Clip.objects.filter(head__state__in=ours.values("state")).values_list(
            "head__state_id", flat=True
        ),
        Revision.objects.filter(take_state__in=ours.values("state")).values_list(
            "take_state_id", flat=True
        ),
        StoredMotion.objects.filter(state__in=ours.values("state")).values_list(
            "state_id", flat=True
        ),
    ):
        kept |= set(found)
    return kept


def _may_go(revision: Revision, age: timedelta) -> bool:
    """Whether a line makes a revision's state again, soon and from one that is near."""
    state = State.objects.select_related("before").get(pk=revision.state_id)
    if state.pruned or state.before is None or state.with_take_id is None or state.ms is None:
        return False
    if age and state.used > timezone.now() - age:
        return False
    line = revision.recipe[-1]
    cost, steps = _way_back(state.before)
    return (
        not operation_named(line["operation"]).grows
        and cost + state.ms <= MOST_MS
        and steps < MOST_IN_A_ROW
    )


def _way_back(state: State | None) -> tuple[float, int]:
    """Milliseconds and steps until a state is there: none where its curves are kept."""
    total, steps = 0.0, 0
    while state is not None and state.pruned and steps <= MOST_IN_A_ROW:
        total += state.ms or 0.0
        steps += 1
        state = State.objects.filter(pk=state.before_id).first()
    return total, steps


def _comes_out_the_same(state: State) -> bool:
    """Whether making a state again gives the numbers it has."""
    fresh = State.objects.select_related("header", "before", "with_take").get(pk=state.pk)
    try:
        again = made_anew(fresh)
    except Gone:
        return False
    document = packed(again)
    same = headers_agree(bytes(fresh.header.data), document.blobs[document.header])
    return same and differs_by(load_clip(fresh), again) <= SAME


def tidy(age: timedelta = AGE) -> dict[str, int]:
    """Prune every clip and sweep what is left over, but not what is young."""
    pruned = 0
    for clip in Clip.objects.iterator():
        try:
            pruned += prune(clip, age)
        except Exception:
            log.exception("a clip could not be pruned", extra={"clip": clip.pk})
    swept = sweeping.sweep(age, NEWEST)
    wrong = sweeping.check()
    if wrong:
        log.error("storage is not whole", extra={"troubles": wrong[:10], "count": len(wrong)})
    return {"pruned": pruned, **swept, "troubles": len(wrong)}


def forget_clip(clip: Clip) -> None:
    """Delete a clip with its history and its deliveries, and takes that were only kept beneath it;
    its blobs go with the next sweep."""
    with transaction.atomic():
        takes = clip.revisions.exclude(take=None).values_list("take", flat=True).distinct()
        beneath = [clip.take_id, clip.beneath_id, *takes]
        clip.deliveries.all().delete()
        clip.handed.all().delete()
        Clip.objects.filter(pk=clip.pk).update(head=None, tip=None)
        clip.revisions.update(parent=None)
        clip.revisions.all().delete()
        clip.delete()
        for take in Take.objects.filter(pk__among=beneath, hidden=True):
            forget_take(take)


def bin_take(take: Take) -> None:
    """Into the bin, and the clips that lie on it now along with it."""
    now = timezone.now()
    with transaction.atomic():
        Take.objects.filter(pk=take.pk).update(binned=now)
        live = Clip.objects.filter(beneath=take, binned=None)
        live.update(binned=now, binned_with=take)


def forget_take(take: Take) -> None:
    """Delete a take with its file and the clips that went into the bin with it.

    Where another clip has ever lain on it, it stays, seen by nobody, until the last such clip is
    gone.
    """
    with transaction.atomic():
        for clip in Clip.objects.filter(binned_with=take):
            forget_clip(clip)
        if clips_on(take).exists():
            now = timezone.now()
            Take.objects.filter(pk=take.pk).update(hidden=True, binned=take.binned or now)
            return
        file = take.file
        take.delete()
        if not file.take_set.exists():
            file.delete()


def clips_on(take: Take) -> QuerySet[Clip]:
    """Clips that have ever lain on a take and do not go with it: undo may lead back to it."""
    once = Q(revisions__take=take) | Q(take=take)
    return Clip.objects.filter(once).exclude(binned_with=take).distinct()


@queue.periodic(cron="17 * * * *")
@queue.task(name="tidy_storage", queue="jobs", pass_context=False)
def tidy_now_and_then(timestamp: int) -> None:
    """Every hour, by whichever worker is alive."""
    log.info("storage tidied", extra=tidy())
