"""The whole instance as one file, and back: everything is in the database, in one snapshot of it.

A backup is a tar of ``manifest.json`` (what is in it, counted) and ``database.dump`` (PostgreSQL's
custom format). It is made while people work, and restored beside what is there: only what was
counted, and whose documents are what their names say, takes its place.
"""

import hashlib
import io
import json
import os
import struct
import subprocess
import tarfile
import tempfile
import time
import zlib
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, Any, LiteralString

import psycopg
from django.conf import settings
from django.core.management import call_command
from django.db.migrations.loader import MigrationLoader
from documents.squeezing import unsqueezed
from documents.store import MISSING
from leancurve import __version__
from leancurve.errors import BadInput
from psycopg import sql

WHAT = "Lean Curve backup"
VERSION = 1
BLOBS = "editing_blob"


def program(name: str) -> str:
    """One of PostgreSQL's programs, of the newest version that is installed."""
    found = sorted(Path("/usr/lib/postgresql").glob(f"*/bin/{name}"), key=_version)
    return str(found[-1]) if found else name


def _version(path: Path) -> int:
    return int(path.parts[-3]) if path.parts[-3].isdigit() else 0


def _connection(database: str | None = None, **more: Any) -> psycopg.Connection[Any]:
    own = settings.DATABASES["default"]
    return psycopg.connect(
        host=own["HOST"], port=own["PORT"], user=own["USER"], password=own["PASSWORD"],
        dbname=database or own["NAME"], **_of_libpq(), **more,
    )  # fmt: skip


def _of_libpq() -> dict[str, str]:
    """What the database's address says beyond where it is: ``sslmode`` and the like."""
    options: dict[str, Any] = settings.DATABASES["default"]["OPTIONS"]
    return {k: str(v) for k, v in options.items() if k != "server_side_binding"}


def _run(name: str, *arguments: str) -> None:
    own = settings.DATABASES["default"]
    environment = {
        **os.environ,
        "PGHOST": str(own["HOST"]), "PGPORT": str(own["PORT"]), "PGUSER": str(own["USER"]),
        "PGPASSWORD": str(own["PASSWORD"]),
        **{f"PG{name.upper()}": value for name, value in _of_libpq().items()},
    }  # fmt: skip
    done = subprocess.run(
        [program(name), *arguments], env=environment, capture_output=True, text=True
    )
    if done.returncode:
        raise BadInput(f"{name}: {done.stderr.strip()[-400:]}")


def backup(target: Path) -> dict[str, Any]:
    """Write a backup; what is there under that name is replaced once it is whole."""
    with tempfile.TemporaryDirectory(dir=target.parent or None) as folder:
        dump = Path(folder) / "database.dump"
        with _connection() as connection:
            connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
            row = connection.execute("SELECT pg_export_snapshot()").fetchone()
            assert row is not None
            rows = _counted(connection)
            migrations = _applied(connection)
            # Both look at the same moment, whatever people do meanwhile.
            _run(
                "pg_dump", "--format=custom", "--compress=1", f"--snapshot={row[0]}",
                f"--file={dump}", str(settings.DATABASES["default"]["NAME"]),
            )  # fmt: skip
        manifest = {
            "what": WHAT,
            "version": VERSION,
            "application": __version__,
            "made": datetime.now(UTC).isoformat(timespec="seconds"),
            "migrations": migrations,
            "rows": rows,
            "bytes": dump.stat().st_size,
            "sha256": _sha256(dump),
        }
        part = Path(folder) / "backup.tar"
        with tarfile.open(part, "w") as tar:
            data = json.dumps(manifest, indent=1).encode()
            head = tarfile.TarInfo("manifest.json")
            head.size = len(data)
            tar.addfile(head, io.BytesIO(data))
            tar.add(dump, "database.dump")
        part.chmod(0o600)
        os.replace(part, target)
    return manifest


def _applied(connection: psycopg.Connection[Any]) -> list[str]:
    """The migrations that a database has, as ``app.name``."""
    found = connection.execute("SELECT app, name FROM django_migrations ORDER BY 1, 2").fetchall()
    return [f"{app}.{name}" for app, name in found]


def unknown_migrations(applied: Iterable[str]) -> list[str]:
    """Those of a database that this version does not have: it is older than the database."""
    loader = MigrationLoader(None, ignore_no_migrations=True)
    here = {app for app, _ in loader.disk_migrations}
    known = {f"{app}.{name}" for app, name in loader.disk_migrations}
    replaced = {
        f"{app}.{name}" for m in loader.disk_migrations.values() for app, name in m.replaces
    }
    ours = {m.partition(".")[0] for m in applied} & here
    return sorted(m for m in applied if m.partition(".")[0] in ours and m not in known | replaced)


def _require_known(applied: Iterable[str], made_by: str, file: str) -> None:
    unknown = unknown_migrations(applied)
    if unknown:
        raise BadInput(
            f"the backup was made by a newer version ({made_by}, with {unknown[0]}); this is "
            f"{__version__}: update first, then restore",
            file=file,
        )


def _counted(connection: psycopg.Connection[Any]) -> dict[str, int]:
    tables = connection.execute(
        "SELECT tablename FROM pg_tables WHERE schemaname = 'public' ORDER BY 1"
    ).fetchall()
    counted = {}
    for (table,) in tables:
        row = connection.execute(
            sql.SQL("SELECT count(*) FROM {}").format(sql.Identifier(table))
        ).fetchone()
        assert row is not None
        counted[table] = int(row[0])
    return counted


def _sha256(file: Path) -> str:
    with file.open("rb") as opened:
        return hashlib.file_digest(opened, "sha256").hexdigest()


def read_manifest(source: Path) -> dict[str, Any]:
    """What a backup says it holds; :class:`BadInput` where it is none."""
    try:
        with tarfile.open(source) as tar:
            data = _member(tar, "manifest.json").read(2**20)
            manifest = json.loads(data)
    except (tarfile.TarError, OSError, KeyError, ValueError) as trouble:
        raise BadInput(f"this is not a backup: {trouble}", file=source.name) from None
    if not isinstance(manifest, dict) or manifest.get("what") != WHAT:
        raise BadInput("this is not a Lean Curve backup", file=source.name)
    if manifest.get("version") != VERSION:
        raise BadInput(
            f"a backup of version {manifest.get('version')}; this is version {VERSION}",
            file=source.name,
        )
    return manifest


def _member(tar: tarfile.TarFile, name: str) -> IO[bytes]:
    opened = tar.extractfile(name)
    if opened is None:
        raise KeyError(name)
    return opened


def restore(source: Path, database: str, tell: Callable[[str], None] = lambda _: None) -> None:
    """Restore into a new database of that name, and check all of it; a failed one is dropped."""
    manifest = read_manifest(source)
    made_by = str(manifest.get("application", "unknown"))
    _require_known(manifest.get("migrations", ()), made_by, source.name)
    with tempfile.TemporaryDirectory(dir=source.parent or None) as folder:
        dump = Path(folder) / "database.dump"
        try:
            with tarfile.open(source) as tar, dump.open("wb") as out:
                opened = _member(tar, "database.dump")
                while data := opened.read(2**22):
                    out.write(data)
        except (tarfile.TarError, OSError, KeyError, EOFError) as trouble:
            raise BadInput(f"the backup cannot be read: {trouble}", file=source.name) from None
        if _sha256(dump) != manifest["sha256"]:
            raise BadInput("the backup is damaged: it is not what was written", file=source.name)
        _create(database)
        try:
            tell("restoring")
            _run("pg_restore", "--no-owner", "--exit-on-error", "--dbname", database, str(dump))
            tell("checking")
            with _connection(database) as connection:
                # Older backups do not say theirs.
                _require_known(_applied(connection), made_by, source.name)
                _check(connection, manifest["rows"])
                # Whoever is signed in now need not have been then, nor with that password.
                connection.execute("DELETE FROM django_session")
        except BaseException:
            drop(database)
            raise


def _create(database: str) -> None:
    with _connection("postgres", autocommit=True) as admin:
        if _exists(admin, database):
            raise BadInput(f"there is a database {database!r} already")
        admin.execute(sql.SQL("CREATE DATABASE {}").format(sql.Identifier(database)))


def _exists(admin: psycopg.Connection[Any], database: str) -> bool:
    found = admin.execute("SELECT 1 FROM pg_database WHERE datname = %s", [database]).fetchone()
    return found is not None


def drop(database: str) -> None:
    with _connection("postgres", autocommit=True) as admin:
        admin.execute(
            sql.SQL("DROP DATABASE IF EXISTS {} WITH (FORCE)").format(sql.Identifier(database))
        )


def _check(connection: psycopg.Connection[Any], rows: dict[str, int]) -> None:
    """Every table has the rows that were counted, every blob is what its name says, and every
    document has all its parts."""
    found = _counted(connection)
    wrong = [t for t, n in rows.items() if found.get(t) != n]
    if wrong:
        table = wrong[0]
        raise BadInput(f"{table}: {found.get(table, 0)} rows of {rows[table]} came back")
    with connection.cursor("blobs") as cursor:
        cursor.itersize = 200
        cursor.execute(sql.SQL("SELECT sha, data FROM {}").format(sql.Identifier(BLOBS)))
        for sha, data in cursor:
            if not _is_called(data, sha):
                raise BadInput(f"a document's part is damaged: {sha[:12]}")
    missing = connection.execute(_missing_parts(connection)).fetchone()
    if missing is not None:
        raise BadInput(f"a document's part is missing: {missing[0][:12]}")


def _is_called(data: bytes, sha: str) -> bool:
    """Whether a part that is kept so is what its name says."""
    try:
        return hashlib.sha256(unsqueezed(data)).hexdigest() == sha
    except (ValueError, struct.error, zlib.error):
        return False


def _missing_parts(connection: psycopg.Connection[Any]) -> LiteralString:
    """What finds a part of a state that is not there; old ones knew of no pruned states."""
    known = connection.execute(
        "SELECT 1 FROM information_schema.columns "
        "WHERE table_name = 'editing_state' AND column_name = 'pruned'"
    ).fetchone()
    return MISSING if known else MISSING.replace("NOT pruned", "true")


def take_place(database: str) -> str | None:
    """The restored database becomes the one that is used. What was there is kept under the name
    that is returned, or dropped where nothing was in it."""
    own = str(settings.DATABASES["default"]["NAME"])
    before = f"{own}_before_{datetime.now(UTC):%Y%m%d_%H%M%S}"
    with _connection("postgres", autocommit=True) as admin:
        was = _exists(admin, own) and _in_use(own)
        if was:
            rename(admin, own, before)
        elif _exists(admin, own):
            drop(own)
        rename(admin, database, own)
    call_command("migrate", verbosity=0)
    return before if was else None


def send_away(admin: psycopg.Connection[Any], *databases: str) -> None:
    """End the connections of everybody on databases. What PostgreSQL does there of its own, as
    autovacuum, makes way by itself, and only a superuser could end it."""
    admin.execute(
        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
        "WHERE datname = ANY(%s) AND backend_type = 'client backend'",
        [list(databases)],
    )


RENAMING_S = 30.0
"""How long those who are sent away may take to be gone; PostgreSQL itself waits for five."""


def rename(admin: psycopg.Connection[Any], old: str, new: str) -> None:
    """Give a database another name. Nobody comes in meanwhile, and who is in is sent away: an
    application that is running would be back before the name is changed."""
    _open(admin, old, to_come=False)
    name = old
    try:
        until = time.monotonic() + RENAMING_S
        while name == old:
            send_away(admin, old)
            try:
                admin.execute(
                    sql.SQL("ALTER DATABASE {} RENAME TO {}").format(
                        sql.Identifier(old), sql.Identifier(new)
                    )
                )
                name = new
            except psycopg.errors.ObjectInUse:
                if time.monotonic() > until:
                    raise
    finally:
        _open(admin, name, to_come=True)


def _open(admin: psycopg.Connection[Any], database: str, *, to_come: bool) -> None:
    admin.execute(
        sql.SQL("ALTER DATABASE {} WITH ALLOW_CONNECTIONS {}").format(
            sql.Identifier(database), sql.Literal(to_come)
        )
    )


def _in_use(database: str) -> bool:
    with _connection(database) as connection:
        there = connection.execute("SELECT to_regclass('library_workspace')").fetchone()
        if there is None or there[0] is None:
            return False
        row = connection.execute("SELECT count(*) FROM library_workspace").fetchone()
        return row is not None and row[0] > 0
