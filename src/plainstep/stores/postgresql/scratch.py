"""A copy of a PostgreSQL database's schema, with some of its rows, on the same server, to try things out."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import uuid
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

import psycopg
from psycopg.conninfo import conninfo_to_dict, make_conninfo

from plainstep.errors import ConfigError, Refused
from plainstep.sql.literals import quoted
from plainstep.stores.capabilities import ScratchTable
from plainstep.stores.postgresql import catalog

if TYPE_CHECKING:
    from plainstep.stores.postgresql.connection import Connection
    from plainstep.stores.postgresql.database import PostgresqlDatabase

# How many values of a column are drawn from, and out of how many rows.
VALUES, ROWS = 30, 1000
WHOLE = ["0", "1", "2", "3", "4", "5", "6", "7", "-1", "NULL"]
USUAL = {
    "smallint": WHOLE, "integer": WHOLE, "bigint": WHOLE, "numeric": [*WHOLE, "1.5"], "real": [*WHOLE, "1.5"],
    "double precision": [*WHOLE, "1.5"], "boolean": ["true", "false", "NULL"],
    "text": ["'a'", "'b'", "'c'", "''", "'A'", "NULL"], "character varying": ["'a'", "'b'", "''", "NULL"],
}  # fmt: skip
UPSERTS = (
    "INSERT INTO {table} ({columns}) VALUES ({values}) ON CONFLICT DO NOTHING",
    "INSERT INTO {table} ({columns}) VALUES ({values}) ON CONFLICT ({key}) DO UPDATE SET {sets}",
)
# A statement of a rehearsal takes no longer: its triggers may set each other off for ever.
PATIENCE = "10s"


class PostgresqlTemplate:
    """What copies are made of: a database.

    Args:
        database: the one that was copied.
        name: the name of the copy.
        table: the table that is tried out.
        tables: it, and those that hang together with it.
        notes: what is left out.
    """

    def __init__(
        self, database: PostgresqlDatabase, name: str, table: str, tables: list[ScratchTable], notes: list[str]
    ) -> None:
        self.database, self.name, self.table, self.tables, self.notes = database, name, table, tables, notes

    @contextmanager
    def fresh(self) -> Iterator[PostgresqlScratch]:
        """A new copy."""
        with _made(self.database, self.name) as name:
            url = _url(self.database, name)
            with psycopg.connect(url, autocommit=True) as connection:
                connection.execute("SELECT set_config('statement_timeout', %s, false)", [PATIENCE])
                yield PostgresqlScratch(url, connection)


class PostgresqlScratch:
    """A copy of a database."""

    def __init__(self, url: str, connection: psycopg.Connection) -> None:
        self.url, self._connection = url, connection

    def play(self, statements: Sequence[str], kept: bool) -> int:
        """Run statements in one transaction; how many were accepted."""
        accepted = 0
        with suppress(psycopg.Error), self._connection.transaction(force_rollback=not kept):  # a deferred constraint
            for statement in statements:
                with suppress(psycopg.Error), self._connection.transaction():  # a savepoint to come back to
                    self._connection.execute(statement)
                    accepted += 1
        return accepted


@contextmanager
def scratch(database: PostgresqlDatabase, table: str, rows: int) -> Iterator[PostgresqlTemplate]:
    """A copy of a database's schema, with so many rows of each table.

    Raises:
        ConfigError: pg_dump is not installed.
        Refused: the schema cannot be copied, or this role may make no database.
    """
    before, after = (_dumped(database, section) for section in ("pre-data", "post-data"))
    with database.opened() as source, _made(database) as name:
        found = catalog.find(source, table)
        if found is None:
            raise catalog.missing(source, table, database.name)
        notes = []
        with psycopg.connect(_url(database, name), autocommit=True) as copy:
            try:
                copy.execute(before)
                copy.execute(after)
            except psycopg.Error as error:
                raise Refused(
                    f"The schema of {database.name} could not be copied: {str(error).partition(chr(10))[0]}.",
                    "A rehearsal needs all of it.",
                    "Rehearse as a role that may make everything that is in it.",
                ) from None
            names = catalog.tables(source)
            if rows and not _copy_rows(source, copy, names, rows):
                notes.append("no rows were copied: only a superuser can, past constraints and triggers")
        first = (found.schema, found.name)
        described = [
            _described(source, f"{quoted(one[0])}.{quoted(one[1])}")
            for one in [first, *(n for n in names if n != first)]
        ]
        yield PostgresqlTemplate(database, name, table, described, notes)


@contextmanager
def _made(database: PostgresqlDatabase, template: str = "") -> Iterator[str]:
    """A database of a new name, which is dropped when the block ends."""
    name = f"plainstep_rehearsal_{uuid.uuid4().hex[:12]}"
    like = f" TEMPLATE {quoted(template)}" if template else ""
    with psycopg.connect(database.connections.url, autocommit=True) as connection:
        try:
            connection.execute(f"CREATE DATABASE {quoted(name)}{like}")
        except psycopg.errors.InsufficientPrivilege:
            raise Refused(
                f"This role may make no database at the server of {database.name}.",
                "A rehearsal plays in a copy, which is dropped afterwards.",
                "ALTER ROLE ... CREATEDB, or rehearse as a role that may.",
            ) from None
        try:
            yield name
        finally:
            connection.execute(f"DROP DATABASE IF EXISTS {quoted(name)} WITH (FORCE)")


def _url(database: PostgresqlDatabase, name: str) -> str:
    """The same URL for another database."""
    return urlsplit(database.connections.url)._replace(path=f"/{name}").geturl()


def _dumped(database: PostgresqlDatabase, section: str) -> str:
    """A part of the schema as SQL, without what Plain Step made there."""
    program = shutil.which("pg_dump")
    if program is None:
        raise ConfigError(
            "A rehearsal copies the schema with pg_dump, which is not installed.",
            "",
            "Install PostgreSQL's client programs.",
        )
    said = {name: str(value) for name, value in conninfo_to_dict(database.connections.url).items() if value is not None}
    secret = {"PGPASSWORD": said.pop("password")} if "password" in said else {}
    words = [program, f"--section={section}", "--no-owner", "--no-privileges", "--no-publications", "--no-subscriptions",
             "--exclude-schema=plainstep", f"--dbname={make_conninfo(**said)}"]  # fmt: skip
    done = subprocess.run(words, capture_output=True, text=True, env=os.environ | secret, check=False)
    if done.returncode:
        raise Refused(f"pg_dump could not read the schema of {database.name}: {done.stderr.strip()}.", "", "")
    # Words to psql; a setting that older servers do not know; and our own triggers.
    text = re.sub(r"^(\\|SET transaction_timeout).*$", "", done.stdout, flags=re.MULTILINE)
    text = re.sub(r"^CREATE TRIGGER [^;]* EXECUTE FUNCTION plainstep\.[^;]*;$", "", text, flags=re.MULTILINE)
    return re.sub(r'^ALTER TABLE [^;]* TRIGGER "?0_plainstep_\w+"?;$', "", text, flags=re.MULTILINE)


def _copy_rows(source: Connection, copy: psycopg.Connection, names: list[tuple[str, str]], rows: int) -> bool:
    """Copy some rows of each table; whether this role may."""
    try:
        copy.execute("SET session_replication_role = replica")
    except psycopg.errors.InsufficientPrivilege:
        return False
    for schema, name in names:
        place = f"{quoted(schema)}.{quoted(name)}"
        table = catalog.find(source, place)
        if table is None:
            continue
        columns = ", ".join(quoted(one) for one in table.names if one not in table.generated)
        with suppress(psycopg.Error), source.cursor() as out, copy.cursor() as into:
            read = f"COPY (SELECT {columns} FROM {place} LIMIT {rows}) TO STDOUT"
            write = f"COPY {place} ({columns}) FROM STDIN"
            with out.copy(read) as data, into.copy(write) as taken:
                for part in data:
                    taken.write(part)
    return True


def _described(source: Connection, place: str) -> ScratchTable:
    table = catalog.find(source, place)
    assert table is not None
    pools = {}
    for column in table.columns:
        if column.name in table.generated:
            continue
        name = quoted(column.name)
        sql = f"SELECT DISTINCT quote_nullable(x::text) FROM (SELECT {name} AS x FROM {place} LIMIT {ROWS}) held LIMIT {VALUES}"
        held = [value for (value,) in source.execute(sql).fetchall()]
        found = [*held, *USUAL.get(column.declared.partition("(")[0], ["NULL"])]
        pools[name] = [one for one in found if one != "NULL" or column.name not in table.primary] or ["'1'"]
    return ScratchTable(
        place, tuple(quoted(one) for one in table.primary), pools, UPSERTS if table.primary else UPSERTS[:1]
    )
