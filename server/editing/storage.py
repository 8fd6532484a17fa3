"""What is kept: curves of old revisions that can be made again are not, and what nothing refers to
any more is swept away.
"""

import logging
from collections.abc import Iterable
from datetime import timedelta

from django.db import connection, transaction
from django.db.models import Q
from django.utils import timezone
from documents.blobs import KEEPING
from documents.models import Blob, State
from documents.store import hash_after, held_by
from leancurve.operations import operation_named
from library.models import Skeleton, Take
from procrastinate.contrib.django import app as queue

from editing.models import Chosen, Clip, Memo, Revision, StoredMotion
from editing.recipes import begin, made_anew, next_key

log = logging.getLogger("lean.storage")

NEWEST = 50
"""Revisions of a clip whose curves are kept in any case."""
MOST_MS = 2000.0
"""The longest that making a state again may take, from the nearest one that is kept."""
AGE = timedelta(hours=1)
"""What is younger may be about to be used."""


def prune(clip: Clip) -> int:
    """Do without the curves of old revisions that a line makes again in a moment; how many.

    Hand work is kept, and so is what is shown, what a take is, and every checkpoint from which
    the next ones are made. Each is made once more before it is given up.
    """
    revisions = list(clip.revisions.select_related("state").order_by("-number"))
    kept = set(Take.objects.values_list("state_id", flat=True))
    kept |= set(Clip.objects.values_list("head__state_id", flat=True))
    kept |= set(Revision.objects.values_list("take_state_id", flat=True))
    kept |= set(StoredMotion.objects.values_list("state_id", flat=True))
    for revision in revisions[:NEWEST]:
        kept |= {revision.state_id, revision.before_id}
    count = 0
    cost: dict[str, float] = {}
    for revision in reversed(revisions[NEWEST:]):
        state = revision.state
        if state.pk in kept or state.pruned or state.before is None or state.ms is None:
            continue
        line = revision.recipe[-1]
        again = _cost(state.before, cost) + state.ms
        if operation_named(line["operation"]).grows or again > MOST_MS:
            continue
        if hash_after(state.before, made_anew(state)) != state.pk:
            continue
        State.objects.filter(pk=state.pk).update(pruned=True)
        cost[state.pk] = again
        count += 1
    return count


def _cost(state: State, known: dict[str, float]) -> float:
    """Milliseconds until a state is there: none where its curves are kept."""
    if state.pk in known:
        return known[state.pk]
    total, at = 0.0, state
    while at.pruned and at.before is not None:
        total += at.ms or 0.0
        at = at.before
    return total


def sweep(age: timedelta = AGE) -> dict[str, int]:
    """Delete memos, states and blobs that nothing refers to any more, but not what is young."""
    before = timezone.now() - age
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_advisory_xact_lock(%s)", [KEEPING])
        memos = Memo.objects.exclude(pk__in=_live_trails()).filter(created__lt=before)
        counts = {"memos": memos.delete()[0]}
        live = _live_states()
        states = State.objects.exclude(pk__in=live).filter(used__lt=before)
        counts["states"] = states.delete()[1].get("documents.State", 0)
        held = held_by(State.objects.iterator()) | _lines() | _skeletons()
        counts["blobs"] = Blob.objects.exclude(pk__in=held).delete()[0]
    return counts


def _live_trails() -> set[str]:
    """Names of what the recipes of clips make, each clip's newest revisions and its head."""
    live: set[str] = set()
    for clip in Clip.objects.select_related("take", "head", "tip"):
        newest = list(clip.revisions.select_related("take").order_by("-number")[:NEWEST])
        for revision in {r.pk: r for r in (*newest, clip.head, clip.tip) if r}.values():
            key = begin((revision.take or clip.take).state).key
            for line in revision.recipe:
                key = next_key(key, line)
                live.add(key)
    return live


def _live_states() -> set[str]:
    """States that takes, revisions, memos and lines name, and those they are made from again."""
    live: set[str | None] = set(Take.objects.values_list("state_id", flat=True))
    for model, names in (
        (Revision, ("state_id", "before_id", "take_state_id")),
        (Memo, ("state_id", "take_id")),
        (Chosen, ("state_id",)),
        (StoredMotion, ("state_id",)),
    ):
        for row in model.objects.values_list(*names):
            live |= set(row)
    fresh = set(live)
    while fresh:
        made = State.objects.filter(pk__in=fresh, pruned=True).values_list(
            "before_id", "with_take_id"
        )
        fresh = {pk for row in made for pk in row} - live
        live |= fresh
    return {pk for pk in live if pk is not None}


def _lines() -> set[str]:
    lines = {sha for recipe in Revision.objects.values_list("lines", flat=True) for sha in recipe}
    return lines | set(State.objects.exclude(line="").values_list("line", flat=True))


def _skeletons() -> set[str]:
    return set(Skeleton.objects.values_list("digest", flat=True))


def tidy(age: timedelta = AGE) -> dict[str, int]:
    """Prune every clip and sweep what is left over, but not what is young."""
    pruned = sum(prune(clip) for clip in Clip.objects.all())
    return {"pruned": pruned, **sweep(age)}


def forget_clip(clip: Clip) -> None:
    """Delete a clip with its history and its deliveries; its blobs go with the next sweep."""
    with transaction.atomic():
        clip.deliveries.all().delete()
        Clip.objects.filter(pk=clip.pk).update(head=None, tip=None)
        clip.revisions.update(parent=None)
        clip.revisions.all().delete()
        clip.delete()


def forget_take(take: Take) -> None:
    """Delete a take with its file and all clips made of it."""
    others = Revision.objects.filter(take=take).exclude(clip__take=take)
    with transaction.atomic():
        clips: Iterable[Clip] = Clip.objects.filter(Q(take=take) | Q(revisions__in=others))
        for clip in clips.distinct():
            forget_clip(clip)
        file = take.file
        take.delete()
        file.delete()


@queue.periodic(cron="17 * * * *")
@queue.task(name="tidy_storage", queue="jobs", pass_context=False)
def tidy_now_and_then(timestamp: int) -> None:
    """Every hour, by whichever worker is alive."""
    log.info("storage tidied", extra=tidy())
