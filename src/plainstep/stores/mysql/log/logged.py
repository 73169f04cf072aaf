"""What there is to say of a table that is read from the log: nothing has to be turned on, if all its changes are told."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.stores.mysql.log import preconditions, reader
from plainstep.stores.mysql.table import MysqlTable
from plainstep.stores.records import CaptureInfo

if TYPE_CHECKING:
    from plainstep.stores.mysql.database import MysqlDatabase


def told(database: MysqlDatabase, table: str) -> tuple[CaptureInfo, bool]:
    """What the log has of a table, and that it had so before.

    Raises:
        Refused: it does not tell all its changes.
    """
    rows = MysqlTable(database, table, {})
    with database.opened() as connection:
        preconditions.refuse_untold(connection, rows)
        server = reader.server_of(database.opened)
        oldest, head = server.oldest(connection), server.head(connection)
    return (
        CaptureInfo(
            rows.found.name,
            rows.key(),
            tuple(rows.columns),
            None,
            head.server,
            0,
            oldest.number,
            head.number,
            how="log",
        ),
        False,
    )
