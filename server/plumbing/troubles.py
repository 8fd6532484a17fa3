"""Troubles that are neither the asker's nor ours: a full disk, a database that is away."""

import errno

import psycopg
from django.db import connection
from django.db.utils import InterfaceError, OperationalError
from psycopg.errors import DiskFull

FULL = "The server's disk is full: nothing more can be kept until there is room again."
AWAY = "The database cannot be reached just now."
MET = "Two changes met in the database, and this one gave way: try it again."


def is_full(trouble: BaseException | None) -> bool:
    """Whether something failed because a disk is full, the database's or this machine's."""
    if isinstance(trouble, OSError):
        return trouble.errno in (errno.ENOSPC, errno.EDQUOT)
    return isinstance(trouble, OperationalError) and isinstance(trouble.__cause__, DiskFull)


def is_away(trouble: BaseException | None) -> bool:
    """Whether something failed because the database could not be reached: not connected to, or lost
    while it was asked. What it refused to do is our own failure."""
    if isinstance(trouble, InterfaceError):
        return True
    if not isinstance(trouble, OperationalError):
        return False
    cause = trouble.__cause__
    if not isinstance(cause, psycopg.Error):
        return True
    state = cause.sqlstate
    if state is None:
        # No answer of the server's: there is none, or the driver would not ask it that.
        own = connection.connection
        return cause.pgconn is not None or own is None or bool(own.closed)
    # Connection exceptions, being shut down or started, too many connections.
    return state[:2] == "08" or state in ("57P01", "57P02", "57P03", "53300")


def _met(trouble: BaseException | None) -> bool:
    """Whether the database ended one of two transactions that were in each other's way."""
    return isinstance(trouble, OperationalError) and (_state(trouble) or "")[:2] == "40"


def _state(trouble: BaseException) -> str | None:
    """The SQLSTATE of an error, as PostgreSQL's manual lists them in appendix A."""
    cause = trouble.__cause__
    return cause.sqlstate if isinstance(cause, psycopg.Error) else None


def is_passing(trouble: BaseException | None) -> bool:
    """Whether the same may well succeed if it is tried again."""
    return is_away(trouble) or _met(trouble)


def passing(trouble: BaseException | None) -> str | None:
    """What to say of a trouble that ends without anybody changing what they ask; None of others."""
    if is_full(trouble):
        return FULL
    if is_away(trouble):
        return AWAY
    return MET if _met(trouble) else None
