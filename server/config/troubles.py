"""Troubles that are neither the asker's nor ours: a full disk, a database that is away."""

import errno

from django.db.utils import InterfaceError, OperationalError
from psycopg.errors import DiskFull

FULL = "The server's disk is full: nothing more can be kept until there is room again."
AWAY = "The database cannot be reached just now."


def is_full(trouble: BaseException | None) -> bool:
    """Whether something failed because a disk is full, the database's or this machine's."""
    if isinstance(trouble, OSError):
        return trouble.errno in (errno.ENOSPC, errno.EDQUOT)
    return isinstance(trouble, OperationalError) and isinstance(trouble.__cause__, DiskFull)


def is_away(trouble: BaseException | None) -> bool:
    """Whether something failed because the database could not be reached."""
    return isinstance(trouble, OperationalError | InterfaceError) and not is_full(trouble)


def passing(trouble: BaseException | None) -> str | None:
    """What to say of a trouble that ends without anybody changing what they ask; None of others."""
    if is_full(trouble):
        return FULL
    return AWAY if is_away(trouble) else None
