"""Databases that tests copy instead of making each anew: one with the tables alone, one with the
demo in it. They are named by what they are made from, so that a later run finds them again."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from typing import Any
from urllib.parse import urlsplit, urlunsplit

import psycopg

from tests.conftest import PROJECT
from tests.made import sources

EMPTY = "template1"
PREPARING = 420  # the lock of whoever looks whether a database is there


def address(database: str) -> str:
    """A database on the server that tests are given."""
    return urlunsplit(urlsplit(os.environ["LEAN_DATABASE_URL"])._replace(path=f"/{database}"))


@contextmanager
def server() -> Iterator[psycopg.Connection[Any]]:
    with psycopg.connect(address("postgres"), autocommit=True) as connection:
        yield connection


def _manage(database: str, *arguments: str) -> None:
    environment = {
        **os.environ,
        "LEAN_DATABASE_URL": address(database),
        "LEAN_SECRET_KEY": "only-for-tests-" * 4,
        "DJANGO_SETTINGS_MODULE": "config.settings",
        "PYTHONPATH": f"{PROJECT}/core:{PROJECT}/server",
    }
    command = [sys.executable, str(PROJECT / "server/manage.py"), *arguments]
    subprocess.run(command, env=environment, stdout=subprocess.DEVNULL, check=True)


def _prepared(kind: str, begins_as: str, *commands: tuple[str, ...]) -> str:
    """The name of a database; whoever comes first makes it, others wait."""
    name = f"lean_{kind}_{sources('core', 'server')}"
    with server() as connection:
        connection.execute("SELECT pg_advisory_lock(%s)", [PREPARING])
        found = connection.execute("SELECT datname FROM pg_database")
        names = {row[0] for row in found.fetchall()}
        for old in names:
            if old.startswith(f"lean_{kind}_") and old != name:
                drop(old)
        if name not in names:
            copy(begins_as, f"{name}_half")
            for command in commands:
                _manage(f"{name}_half", *command)
            # Under its name it is whole: a run that was ended half way leaves none.
            connection.execute(f"ALTER DATABASE {name}_half RENAME TO {name}")
    return name


@cache
def with_tables() -> str:
    """The name of a database that was brought up by all migrations and holds nothing."""
    return _prepared("tables", EMPTY, ("migrate", "-v0"))


@cache
def with_demo() -> str:
    """The name of a database with the demo's takes in it."""
    return _prepared("demo", with_tables(), ("load_demo",))


def copy(of: str, name: str) -> None:
    """A new database, in the place of any that was left under its name."""
    with server() as connection:
        connection.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
        connection.execute(f"CREATE DATABASE {name} TEMPLATE {of}")


def drop(name: str) -> None:
    """Whoever still uses it is sent away."""
    with server() as connection:
        connection.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")


if __name__ == "__main__":
    with_demo()
