"""Blobs kept and read: lines of recipes, and the lock under which blobs are kept."""

import hashlib
import time
import zlib
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

import orjson
from django.db import connection, transaction
from leancurve.operations.registry import NAMES_ONCE

from documents.caches import Cache
from documents.models import Blob

_lines: Cache[bytes] = Cache(2**22, len)


KEEPING = 0x1EA9
"""The advisory lock that those who keep blobs share, and that who sweeps them away holds alone."""


@contextmanager
def keeping() -> Iterator[None]:
    """Around keeping blobs and naming what holds them: nothing is swept away in between."""
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_advisory_xact_lock_shared(%s)", [KEEPING])
        yield


@contextmanager
def sweeping(seconds: float = 5.0) -> Iterator[bool]:
    """Around taking away: True while nobody keeps anything, False where somebody went on keeping
    for so long. Nobody who wants to keep something waits behind one who waits to sweep."""
    until = time.monotonic() + seconds
    while True:
        with transaction.atomic():
            with connection.cursor() as cursor:
                cursor.execute("SELECT pg_try_advisory_xact_lock(%s)", [KEEPING])
                alone = bool(cursor.fetchone()[0])
            if alone or time.monotonic() > until:
                yield alone
                return
        time.sleep(0.05)


def all_kept(digests: Collection[str]) -> bool:
    """Whether blobs of all these names are there."""
    names = set(digests)
    return Blob.objects.filter(sha__among=names).count() == len(names)


def keep_lines(recipe: Sequence[dict[str, Any]], held: Collection[str] = ()) -> list[str]:
    """Keep a recipe's lines, each once; their digests are a revision's ``lines``.

    ``held`` are digests of lines that something refers to already: those are there.
    """
    packed = [zlib.compress(orjson.dumps(line, option=orjson.OPT_SORT_KEYS)) for line in recipe]
    digests = [hashlib.sha256(data).hexdigest() for data in packed]
    there = set(held)
    keep_blobs({sha: d for sha, d in zip(digests, packed, strict=True) if sha not in there})
    return digests


def kept_lines(digests: Sequence[str]) -> list[dict[str, Any]]:
    """The lines that :func:`keep_lines` kept."""
    found = _lines.some(digests)
    missing = set(digests) - set(found)
    if missing:
        for sha, data in Blob.objects.filter(sha__among=missing).values_list("sha", "data"):
            found[sha] = bytes(data)
            _lines.put(sha, found[sha])
    return [_named_now(orjson.loads(zlib.decompress(found[sha]))) for sha in digests]


def _named_now(line: dict[str, Any]) -> dict[str, Any]:
    name = line["operation"]
    return {**line, "operation": NAMES_ONCE.get(name, name)}


def keep_blobs(blobs: Mapping[str, bytes]) -> None:
    Blob.objects.bulk_create(
        [Blob(sha=sha, data=data) for sha, data in blobs.items()], ignore_conflicts=True
    )
