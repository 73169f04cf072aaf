"""What only MySQL writes into its log: its own beginnings of transactions, and transactions that are packed as a whole.

After the documentation of MySQL's replication protocol.
"""

from __future__ import annotations

import re
import struct
from typing import Any
from uuid import UUID

from plainstep.copying import replace
from plainstep.deferred import pa
from plainstep.stores.mysql.log.events import COMPLETED, PREPARED, Query, counted
from plainstep.stores.mysql.log.gtid_sets import SetTransaction

# Kinds of events: transactions with a name, without one, with a tag; and packed ones. Rows of which JSON is told in part.
GTID, ANONYMOUS, TAGGED, PAYLOAD, PARTIAL_ROWS = 33, 34, 42, 40, 39
# What is said of packed transactions.
END, PACKED_SIZE, HOW, SIZE = 0, 1, 2, 3
ZSTD, PLAIN = 0, 255
# Bytes that a packed transaction may become: the server takes no larger one (max_allowed_packet, at its most).
LARGEST = 1 << 30
XA = re.compile(r"xa\s+(start|commit|rollback)\s+(.*)", re.IGNORECASE | re.DOTALL)


def transaction_of(body: bytes) -> SetTransaction:
    """The beginning of a transaction: flags, the server that made it, its number there."""
    number = struct.unpack_from("<q", body, 17)[0]
    return SetTransaction(str(UUID(bytes=body[1:17])), number)


def payload_of(body: bytes) -> bytes:
    """The events of a packed transaction, one after the other, without sums.

    Raises:
        ValueError: it is packed in a way that is not known, or becomes too large.
    """
    at, how, size = 0, ZSTD, 0
    while True:
        what, at = counted(body, at)
        if what == END:
            break
        length, at = counted(body, at)
        if what == HOW:
            how = counted(body, at)[0]
        elif what == SIZE:
            size = counted(body, at)[0]
        at += length
    if how == PLAIN:
        return body[at:]
    if how != ZSTD or size > LARGEST:
        raise ValueError(f"a transaction of {size:,} bytes, packed in way {how}")
    return bytes(pa.Codec("zstd").decompress(body[at:], size, asbytes=True))


def xa_of(query: Query) -> tuple[str, bytes]:
    """What a statement does to a transaction of a transaction manager (``start``, ``commit``, ``rollback``), and its name there."""
    found = XA.match(query.sql.strip())
    return (found[1].lower(), re.sub(r"\s", "", found[2]).lower().encode()) if found else ("", b"")


def told_by(query: Query, one: Any) -> Any:
    """A transaction, with what a statement says of it: that it is prepared, or that one that was prepared before is completed."""
    what, xid = xa_of(query)
    return replace(one, flags=PREPARED if what == "start" else COMPLETED, xid=xid) if what else one


def is_one_phase(body: bytes) -> bool:
    """Whether a transaction that was prepared is committed at once."""
    return bool(body[0])
