"""Several people on a clip: who is on it, and what they have changed."""

from datetime import timedelta
from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from django.utils import timezone

from editing.models import Clip, Presence, Revision

HEARD = timedelta(seconds=15)
"""A page that was not heard of for so long is not open any more, or sleeps."""
FORGOTTEN = timedelta(hours=1)
MOST_TOLD = 20


def here(clip: Clip, user: AbstractBaseUser, page: str) -> list[str]:
    """Note that a page shows a clip; the names of others who are on it."""
    now = timezone.now()
    Presence.objects.filter(seen__lt=now - FORGOTTEN).delete()
    Presence.objects.update_or_create(clip=clip, page=page, defaults={"user": user, "seen": now})
    others = clip.presences.filter(seen__gt=now - HEARD).exclude(user=user)
    return sorted(set(others.values_list("user__username", flat=True)))


def changes_since(clip_id: int, base: int, head: int) -> list[dict[str, Any]]:
    """The steps that lead from one revision to another of the clip, the oldest first; none where
    they do not: the head went back, or to another branch."""
    if base == head:
        return []
    steps: list[dict[str, Any]] = []
    at: int | None = head
    rows = {
        row["pk"]: row
        for row in Revision.objects.filter(clip_id=clip_id, pk__gt=base, pk__lte=head).values(
            "pk", "parent_id", "number", "cause", "created", "author__username"
        )
    }
    while at is not None and at != base:
        row = rows.get(at)
        if row is None:
            return []
        steps.append(
            {
                "author": row["author__username"] or "",
                "cause": row["cause"],
                "number": row["number"],
                "created": row["created"],
            }
        )
        at = row["parent_id"]
    return steps[:MOST_TOLD][::-1]
