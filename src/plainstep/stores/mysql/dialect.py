"""How MariaDB and MySQL write SQL."""

from __future__ import annotations

from plainstep.stores.dialect import Dialect

# Texts of our own tables are compared letter by letter, whatever the database's collation.
TEXT = "LONGTEXT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"
DIALECT = Dialect(
    parameter="%s",
    quote="`",
    backslashes=True,
    text=TEXT,
    real="DOUBLE",
    ignoring=("INSERT INTO", " ON DUPLICATE KEY UPDATE {column} = {column}"),
    widening="ALTER TABLE {table} MODIFY COLUMN {column} {type}",
    stripped="regexp_replace({value}, '[{letters}]*$', '')",
    keyed_text="{column}(250)",
)
