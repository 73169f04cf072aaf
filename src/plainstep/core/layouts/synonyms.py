"""What people call things: words in the names of columns, and codes of operations."""

from __future__ import annotations

# Words that people use in names of columns and in codes. A word that fits decides between columns that fit otherwise.
ORDERING = ("seq", "position", "pos", "lsn", "offset", "version", "commit", "number", "no", "line", "n", "batch", "id")
OPERATION = ("op", "operation", "action", "what", "kind", "change", "event", "verb", "type", "mode", "code")
TIMES = ("at", "time", "when", "date", "ts", "timestamp", "on")
TRANSACTIONS = ("txn", "transaction", "tx", "xid", "commit", "batch")
OLD_WORDS = ("old", "before", "was", "prev", "previous", "from", "pre")
NEW_WORDS = ("new", "after", "now", "next", "to", "post", "row", "data", "payload", "values")
GONE = ("deleted", "is_deleted", "removed", "gone", "deleted_at", "removed_at", "unset")
PATCHED = ("patch", "changed", "changes", "updated", "updates", "delta", "diff", "set", "modified")
SENT = ("fields", "columns", "changed", "changed_columns", "changed_fields", "sent", "given")
MEANINGS = {
    "insert": ("i", "ins", "insert", "inserted", "create", "created", "new", "add", "added", "planted"),
    "update": ("u", "upd", "update", "updated", "change", "changed", "modify", "modified", "edit", "edited", "grew"),
    "delete": ("d", "del", "delete", "deleted", "remove", "removed", "drop", "unset", "felled"),
    "truncate": ("t", "truncate", "truncated", "clear", "cleared"),
    "put": ("put", "set", "upsert", "merge", "write", "save"),
    "update_was": ("before", "old", "was", "update before", "from"),
    "update_now": ("after", "now", "update after", "to"),
}
# What messages are called that only say that a feed is alive.
HEARTBEATS = (
    "beat",
    "heartbeat",
    "heart-beat",
    "heart_beat",
    "ping",
    "keepalive",
    "keep-alive",
    "keep_alive",
    "noop",
    "idle",
    "progress",
    "alive",
)
# What values are wrapped in that tell their type: objects with one of these names as their only field.
TYPE_NAMES = (
    "string",
    "text",
    "str",
    "int",
    "integer",
    "long",
    "bigint",
    "float",
    "double",
    "number",
    "decimal",
    "numeric",
    "boolean",
    "bool",
    "bytes",
    "date",
    "time",
    "timestamp",
    "map",
    "list",
    "array",
)
# What the two ends of a period are called.
FROM_WORDS = (
    "valid_from",
    "from",
    "since",
    "start",
    "begin",
    "begins",
    "effective",
    "effective_from",
    "starts",
    "started",
)
# Those that are said of what is so for a while, and not of what merely takes a while.
VALIDITY = ("valid_from", "since", "effective_from", "effective")
TO_WORDS = ("valid_to", "valid_until", "to", "until", "end", "ends", "ended", "expires", "expired", "effective_to")
