"""Taking away what nothing refers to any more, a portion at a time, while people work.

What is to go is found without holding anybody up. Each portion is then looked at once more while
nobody keeps anything (:func:`documents.blobs.sweeping`), and goes. Where somebody keeps a lot for a
long time, as a workspace that comes in does, the rest is left to the next sweep.
"""

import logging
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.db import connection, transaction
from django.utils import timezone
from documents.blobs import sweeping
from documents.models import Blob, Inspection, State
from documents.store import DIGESTS, MISSING, held_by, skeletons_of
from library.models import Skeleton

from editing.models import Clip, Memo, Revision
from editing.recipes import begin, next_key

log = logging.getLogger("lean.storage")

AGE = timedelta(hours=1)
"""What is younger may be about to be used."""
PORTION = 2_000
MOST_BLOBS = 250_000
"""Blobs that one sweep takes away: the rest goes with the next one."""


class Interrupted(Exception):
    """Somebody went on keeping things: the rest is for the next sweep."""


def sweep(age: timedelta = AGE, newest: int = 50) -> dict[str, int]:
    """Delete memos, states and blobs that nothing refers to any more, but not what is young.

    Memos stay for the ``newest`` revisions of each clip. Returns how many of each went;
    ``interrupted`` is 1 where not all could go.
    """
    counts = {"memos": 0, "states": 0, "blobs": 0}
    try:
        for gone in _memos(age, newest):
            counts["memos"] += gone
        for gone in _states(age):
            counts["states"] += gone
        for gone in _blobs():
            counts["blobs"] += gone
    except Interrupted:
        log.warning("a sweep left the rest to the next one", extra=counts)
        counts["interrupted"] = 1
    return counts


def _portions(names: Sequence[str]) -> Iterator[list[str]]:
    """A portion at a time, in which nobody keeps anything."""
    for k in range(0, len(names), PORTION):
        with sweeping() as alone:
            if not alone:
                raise Interrupted
            yield list(names[k : k + PORTION])


def _rows(query: str, *params: Any) -> list[Any]:
    with connection.cursor() as cursor:
        cursor.execute(query, params)
        return cursor.fetchall()


def _count(query: str, *params: Any) -> int:
    with connection.cursor() as cursor:
        cursor.execute(query, params)
        return int(cursor.rowcount)


def _memos(age: timedelta, newest: int) -> Iterator[int]:
    old = Memo.objects.filter(created__lt=timezone.now() - age).values_list("pk", flat=True)
    live = _live_trails(newest)
    for some in _portions([key for key in old.iterator() if key not in live]):
        yield Memo.objects.filter(key__among=some).delete()[0]


def _live_trails(newest: int) -> set[str]:
    """Names of what the recipes of clips make, each clip's newest revisions and its head."""
    live: set[str] = set()
    for clip in Clip.objects.select_related("take", "head", "tip").iterator():
        revisions = list(clip.revisions.select_related("take").order_by("-number")[:newest])
        for revision in {r.pk: r for r in (*revisions, clip.head, clip.tip) if r}.values():
            key = begin((revision.take or clip.take).state).key
            for line in revision.recipe:
                key = next_key(key, line)
                live.add(key)
    return live


def _unreferred() -> str:
    """What holds of a state ``s`` that nothing refers to, and that no pruned one is made of."""
    conditions = [
        f'NOT EXISTS (SELECT 1 FROM "{link.related_model._meta.db_table}" r '
        f'WHERE r."{link.field.column}" = s.hash)'
        for link in State._meta.get_fields(include_hidden=True)
        if link.auto_created and link.is_relation and link.concrete is False
        if link.related_model not in (State, Inspection)
    ]
    conditions += [
        f"NOT EXISTS (SELECT 1 FROM editing_state p WHERE p.pruned AND p.{column} = s.hash)"
        for column in ("before_id", "with_take_id")
    ]
    return " AND ".join(conditions)


def _states(age: timedelta) -> Iterator[int]:
    """States that are unreferred to; what those were made of may be so next."""
    unused = (
        f"SELECT s.hash FROM editing_state s WHERE s.used < clock_timestamp() - %s "
        f"AND {_unreferred()}"
    )
    while found := [name for (name,) in _rows(unused, age)]:
        gone = 0
        for some in _portions(found):
            still = _rows(f"{unused} AND s.hash = ANY(%s)", age, some)
            names = [name for (name,) in still]
            _count("DELETE FROM editing_inspection WHERE state_id = ANY(%s)", names)
            for column in ("before_id", "with_take_id"):
                _count(f"UPDATE editing_state SET {column} = NULL WHERE {column} = ANY(%s)", names)
            done = _count("DELETE FROM editing_state WHERE hash = ANY(%s)", names)
            gone += done
            yield done
        if not gone:
            return


@dataclass(frozen=True)
class _Mark:
    """A moment at which nobody kept anything: what is newer than it has come since."""

    at: Any
    revision: int
    skeleton: int


def _blobs() -> Iterator[int]:
    with sweeping() as alone:
        if not alone:
            raise Interrupted
        ((at,),) = _rows("SELECT clock_timestamp()")
        ends = (
            model.objects.order_by("-pk").values_list("pk", flat=True).first() or 0
            for model in (Revision, Skeleton)
        )
        mark = _Mark(at, *ends)
    for some in _portions(_unheld()):
        since = _named_since(mark)
        yield Blob.objects.filter(sha__among=[sha for sha in some if sha not in since]).delete()[0]


def _unheld() -> list[str]:
    """Blobs that nothing holds. Sets are compared whole: no estimate of theirs leads astray."""
    headers = {h for (h,) in _rows("SELECT DISTINCT header_id FROM editing_state")}
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute("SET LOCAL work_mem = '64MB'")
        cursor.execute(
            f"SELECT sha FROM editing_blob EXCEPT ({DIGESTS.format(states='editing_state')} "
            "UNION ALL SELECT header_id FROM editing_state "
            "UNION ALL SELECT line FROM editing_state "
            "UNION ALL SELECT jsonb_array_elements_text(lines) FROM editing_revision "
            "UNION ALL SELECT digest FROM library_skeleton "
            "UNION ALL SELECT skin FROM library_skeleton "
            "UNION ALL SELECT unnest(%s::text[])) LIMIT %s",
            [list(skeletons_of(headers)), MOST_BLOBS],
        )
        return [sha for (sha,) in cursor.fetchall()]


def _named_since(mark: _Mark) -> set[str]:
    """Digests that states, revisions and skeletons name which were kept, or used, since."""
    fresh = State.objects.filter(used__gte=mark.at)
    named = held_by(fresh) | set(fresh.values_list("line", flat=True))
    for lines in Revision.objects.filter(pk__gt=mark.revision).values_list("lines", flat=True):
        named |= set(lines)
    bones = Skeleton.objects.filter(pk__gt=mark.skeleton)
    # A skeleton of long ago may have got a body meanwhile.
    bodies = set(Skeleton.objects.values_list("skin", flat=True))
    return named | bodies | set(bones.values_list("digest", flat=True))


def check() -> list[str]:
    """What is wrong with what is kept: each state's parts are there, or it can be made again.

    One sentence a trouble; none where all is well.
    """
    return [*_missing_parts(), *_missing_lines(), *_without_origin()]


def _told(what: str, rows: Iterable[tuple[str, str]]) -> list[str]:
    return [what.format(name[:12], part[:12]) for name, part in rows]


def _missing_parts() -> list[str]:
    lost = [sha for (sha,) in _rows(f"{MISSING} LIMIT 100")]
    # Rare, and then looked for one by one.
    missing = _rows(
        "SELECT s.hash, l.sha FROM unnest(%s::text[]) AS l(sha) JOIN editing_state s "
        "ON NOT s.pruned AND position(decode(l.sha, 'hex') IN s.manifest) > 0 LIMIT 100",
        lost,
    )
    headers = [h for (h,) in _rows("SELECT DISTINCT header_id FROM editing_state")]
    bones = skeletons_of(headers)
    there = set(Blob.objects.filter(sha__among=bones).values_list("sha", flat=True))
    told = [f"skeleton {sha[:12]} is named by a document and is not there" for sha in bones - there]
    bodies = set(Skeleton.objects.exclude(skin="").values_list("skin", flat=True))
    there = set(Blob.objects.filter(sha__among=bodies).values_list("sha", flat=True))
    told += [f"body {sha[:12]} of a skeleton is not there" for sha in bodies - there]
    return [*_told("document {}: its part {} is not there", missing), *told]


def _missing_lines() -> list[str]:
    lost = _rows(
        "SELECT DISTINCT jsonb_array_elements_text(lines) FROM editing_revision "
        "EXCEPT SELECT sha FROM editing_blob LIMIT 100"
    )
    rows = _rows(
        "SELECT r.id::text, l.sha FROM unnest(%s::text[]) AS l(sha) JOIN editing_revision r "
        "ON r.lines ? l.sha LIMIT 100",
        [sha for (sha,) in lost],
    )
    return _told("revision {}: line {} of its recipe is not there", rows)


def _without_origin() -> list[str]:
    """Pruned states that do not lead back to one that is whole."""
    rows = _rows(
        "WITH RECURSIVE whole AS (SELECT hash FROM editing_state WHERE NOT pruned UNION "
        "SELECT s.hash FROM editing_state s JOIN whole w ON s.before_id = w.hash WHERE s.pruned "
        "AND s.with_take_id IS NOT NULL AND EXISTS (SELECT 1 FROM editing_blob b "
        "WHERE b.sha = s.line)) SELECT s.hash, s.hash FROM editing_state s WHERE s.pruned "
        "AND NOT EXISTS (SELECT 1 FROM whole w WHERE w.hash = s.hash) LIMIT 100"
    )
    return _told("document {} was given up and cannot be made again", rows)
