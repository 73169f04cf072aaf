"""Who reads what is captured in a PostgreSQL database, registered in ``plainstep.readers``."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext

from plainstep.core.positions import Position
from plainstep.stores.postgresql import catalog, trust
from plainstep.stores.postgresql.connection import Connection, in_transaction
from plainstep.stores.records import Reader

READERS = """
CREATE TABLE IF NOT EXISTS plainstep.readers (
    identity text NOT NULL, reader text NOT NULL, mark bigint, upto bigint NOT NULL, token text NOT NULL DEFAULT '',
    seen timestamptz NOT NULL DEFAULT now(), written_by name NOT NULL DEFAULT current_user,
    PRIMARY KEY (identity, reader, written_by)
)"""
# Whoever reads writes rows of his own, and of nobody else: else one reader could have forgotten what another needs. (Rows that
# an earlier release wrote tell nobody's name, and are anybody's.)
OWN_ROWS = (
    "ALTER TABLE plainstep.readers ENABLE ROW LEVEL SECURITY",
    "CREATE POLICY shown ON plainstep.readers FOR SELECT USING (true)",
    "CREATE POLICY come ON plainstep.readers FOR INSERT WITH CHECK (written_by = current_user)",
    "CREATE POLICY change ON plainstep.readers FOR UPDATE USING (written_by = current_user)",
    "CREATE POLICY go ON plainstep.readers FOR DELETE USING (written_by IN (current_user, ''))",
)
MIGRATE_READERS = (
    "ALTER TABLE plainstep.readers ADD COLUMN written_by name NOT NULL DEFAULT ''",
    "ALTER TABLE plainstep.readers ALTER COLUMN written_by SET DEFAULT current_user",
    "ALTER TABLE plainstep.readers DROP CONSTRAINT readers_pkey",
    "ALTER TABLE plainstep.readers ADD PRIMARY KEY (identity, reader, written_by)",
    *OWN_ROWS,
)
# Finds a table of readers in which any reader could move another one's watermark.
OF_ANYBODY = """SELECT 1 WHERE to_regclass('plainstep.readers') IS NOT NULL AND NOT EXISTS (
    SELECT 1 FROM pg_attribute WHERE attrelid = to_regclass('plainstep.readers') AND attname = 'written_by')"""
NOTED = """INSERT INTO plainstep.readers (identity, reader, mark, upto, token)
VALUES (%(identity)s, %(reader)s, %(mark)s, %(upto)s, %(token)s) ON CONFLICT (identity, reader, written_by)
DO UPDATE SET mark = excluded.mark, upto = excluded.upto, token = excluded.token, seen = now()"""
READ = """SELECT reader, table_name, how, coalesce(mark, upto), token, seen FROM plainstep.readers
JOIN plainstep.captures USING (identity) ORDER BY table_name, how, reader"""
OF_NOBODY = "SELECT 1 FROM plainstep.readers WHERE identity = %s AND reader = %s AND written_by = ''"
KNOWN = """SELECT mark, upto, token FROM plainstep.readers
WHERE identity = %s AND reader = %s AND written_by = current_user"""
SNAPSHOT = re.compile(r"\d{1,19}:\d{1,19}:(\d{1,19}(,\d{1,19})*)?")


def ready(connection: Connection, there: bool) -> None:
    """Make the table of readers where it is not there yet, and bring one of an earlier format up."""
    statements = [] if there else [READERS, *OWN_ROWS]
    if there and are_anybodys(connection):
        statements = [*MIGRATE_READERS]
    for statement in statements:
        connection.execute(statement)


def are_anybodys(connection: Connection) -> bool:
    """Whether any reader could move another one's watermark, as earlier releases had it."""
    return connection.execute(OF_ANYBODY).fetchone() is not None


def every(connection: Connection) -> list[Reader]:
    """Who reads what is captured in this database, as far as they are registered."""
    if not catalog.exists(connection, "plainstep.readers"):
        return []
    with connection.transaction():
        trust.held(connection, "plainstep.readers", "plainstep.captures")
        with by_policy(connection):
            rows = connection.execute(READ).fetchall()
    return [Reader(name, table, how, _place(mark, token), seen) for name, table, how, mark, token, seen in rows]


def _place(mark: int, token: str) -> Position:
    """Where a reader stands. What is not a place holds everything back: others may have written it."""
    return Position(mark, token) if not token or _is_snapshot(token) else Position(0)


def _is_snapshot(token: str) -> bool:
    """Whether the server takes a text for one of its snapshots."""
    if not SNAPSHOT.fullmatch(token):
        return False
    xmin, xmax, listed = token.split(":")
    every = [int(xmin), *(int(one) for one in listed.split(",") if one), int(xmax)]
    return every[0] > 0 and every == sorted(every) and every[-1] < 1 << 63


def forget(connection: Connection, reader: str) -> int:
    """Remove a reader."""
    if not catalog.exists(connection, "plainstep.readers"):
        return 0
    with connection.transaction():
        trust.held(connection, "plainstep.readers", mode="ROW EXCLUSIVE")
        with by_policy(connection):
            return connection.execute("DELETE FROM plainstep.readers WHERE reader = %s", [reader]).rowcount


def forget_readers(connection: Connection, identity: str) -> None:
    """Remove the readers of a capture that is gone."""
    if catalog.exists(connection, "plainstep.readers"):
        with connection.transaction(), by_policy(connection):
            connection.execute("DELETE FROM plainstep.readers WHERE identity = %s", [identity])


def known_reader(
    connection: Connection, identity: str, reader: str, mode: str = "ROW EXCLUSIVE"
) -> tuple[int | None, int, str] | None:
    """What is known of a reader: its watermark, how far there is nothing for it, and the watermark's token.

    Args:
        connection: in the transaction in which this may be written anew.
        identity: that of the capture.
        reader: its name.
        mode: the lock under which the readers are kept as they are.
    """
    with nullcontext() if in_transaction(connection) else connection.transaction():
        trust.held(connection, "plainstep.readers", mode=mode)
        with by_policy(connection):
            return connection.execute(KNOWN, [identity, reader]).fetchone()


def note_reader(
    connection: Connection, identity: str, reader: str, mark: int | None, upto: int, token: str = ""
) -> None:
    """Write down where a reader stands, in the transaction in which it was looked for."""
    values = {"identity": identity, "reader": reader, "mark": mark, "upto": upto, "token": token}
    with by_policy(connection):
        if connection.execute(OF_NOBODY, [identity, reader]).fetchone():
            connection.execute(f"DELETE {OF_NOBODY.removeprefix('SELECT 1 ')}", [identity, reader])
        connection.execute(NOTED, values)


def slowest_reader(connection: Connection, identity: str) -> int | None:
    """How far there is nothing for the slowest reader of a capture, within a transaction."""
    with by_policy(connection):
        row = connection.execute("SELECT min(upto) FROM plainstep.readers WHERE identity = %s", [identity]).fetchone()
        return row[0] if row else None


@contextmanager
def by_policy(connection: Connection) -> Iterator[None]:
    """Policies say who may write which readers' rows. Elsewhere they are off, so that no row is left out unseen."""
    connection.execute("SET LOCAL row_security = on")
    yield
    connection.execute("SET LOCAL row_security = off")
