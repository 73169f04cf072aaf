"""What is registered in a database: which of its tables are captured, and who reads them."""

from __future__ import annotations

from datetime import UTC
from typing import TYPE_CHECKING, Any

import pymysql
from pymysql.constants import ER

from plainstep.core.positions import Position
from plainstep.errors import Refused
from plainstep.stores.mysql.capture.triggers import text
from plainstep.stores.mysql.connection import number_of
from plainstep.stores.mysql.dialect import TEXT
from plainstep.stores.records import Reader

if TYPE_CHECKING:
    from plainstep.stores.mysql.wire import Wire

FORMAT = 1
TABLES = (
    f"CREATE TABLE IF NOT EXISTS plainstep_captures (table_name VARCHAR(64) PRIMARY KEY, identity CHAR(32) NOT NULL, "
    f"key_columns {TEXT} NOT NULL, columns {TEXT} NOT NULL, since DATETIME(6) NOT NULL, trimmed BIGINT NOT NULL, "
    f"made_on {TEXT} NOT NULL, rebuilt {TEXT} NOT NULL, version INT NOT NULL) COLLATE utf8mb4_bin",
    "CREATE TABLE IF NOT EXISTS plainstep_readers (identity CHAR(32) NOT NULL, reader VARCHAR(500) NOT NULL, "
    "position BIGINT NOT NULL, seen DATETIME(6) NOT NULL, PRIMARY KEY (identity, reader)) COLLATE utf8mb4_bin",
    # Whoever writes here is given a number by which those are known that are still open: it is rolled back at once.
    "CREATE TABLE IF NOT EXISTS plainstep_probe (n BIGINT) ENGINE = InnoDB",
)
CAPTURES = "SELECT table_name, identity, key_columns, columns, since, trimmed, made_on, rebuilt, version FROM plainstep_captures"


def captures(connection: Wire, table: str = "") -> list[tuple[Any, ...]]:
    """What is registered: of all tables, or of one."""
    try:
        rows = connection.run(CAPTURES)[1]
    except pymysql.ProgrammingError as error:
        if number_of(error) != ER.NO_SUCH_TABLE:
            raise
        return []
    for row in rows:
        if row[8] > FORMAT:
            raise Refused(
                f"The captures in this database have format {row[8]}, and this release knows formats up to {FORMAT}.",
                "A later release of Plain Step wrote them.",
                "Use that release: pip install --upgrade plainstep.",
            )
    return [row for row in rows if table in ("", row[0])]


def note_reader(connection: Wire, identity: str, reader: str, position: int) -> None:
    """Register a reader, and where it stands."""
    connection.run(
        "INSERT INTO plainstep_readers VALUES (%s, %s, %s, UTC_TIMESTAMP(6)) "
        "ON DUPLICATE KEY UPDATE position = VALUES(position), seen = VALUES(seen)",
        [identity, reader, position],
    )


def readers(connection: Wire, table: str = "") -> list[Reader]:
    """The registered readers of all tables or of one."""
    if not captures(connection, table):
        return []
    _, rows = connection.run(
        "SELECT r.reader, c.table_name, r.position, r.seen FROM plainstep_readers r JOIN plainstep_captures c USING (identity) "
        f"WHERE {text(table)} IN ('', c.table_name) ORDER BY c.table_name, r.reader"
    )
    return [Reader(name, of, "capture", Position(int(at)), seen.replace(tzinfo=UTC)) for name, of, at, seen in rows]


def forget(connection: Wire, reader: str) -> int:
    """Remove a reader."""
    return connection.run("DELETE FROM plainstep_readers WHERE reader = %s", [reader])[0] if captures(connection) else 0
