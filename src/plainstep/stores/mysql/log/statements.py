"""Statements in a binary log: which of them change a table's rows or columns, and how."""

from __future__ import annotations

import re
from collections.abc import Callable
from enum import Enum, auto

# Statements that change rows: they stand in the log by themselves where changes are logged as statements.
CHANGING = ("insert", "update", "delete", "replace", "load", "call", "with", "do", "handler")
DEFINING = ("alter", "create", "drop", "rename", "truncate", "analyze", "optimize", "repair")
COMMENT = re.compile(r"/\*(?!M?!).*?\*/|--[ \t][^\n]*|#[^\n]*", re.DOTALL)
# Rows of our own change tables: these keep the numbers of transactions, so MariaDB logs them as statements, whatever it is set to.
RECORDED = re.compile(r"(?:insert\s+into|delete\s+(?:history\s+)?from)\s+`plainstep_changes_", re.IGNORECASE)
# What a name looks like in front of which nothing stands that it could be a part of.
BEFORE, BEHIND = r"(?<![\w$`\"])[`\"]?", r"[`\"]?(?![\w$`\"])"
# Parts of an ALTER TABLE after which all rows are what they were, but for columns that are gone, or new and null.
HARMLESS = re.compile(
    r"""(?:
    (?:add|drop|rename)\s+(?:unique\s+|fulltext\s+|spatial\s+)?(?:index|key)\b(?!.*\bforeign\b).* |
    add\s+(?:unique|fulltext|spatial)\b.* |
    drop\s+(?:column\s+)?(?:if\s+exists\s+)?(?!primary|foreign|constraint|partition|system|period|check)[`"]?[\w$]+[`"]? |
    add\s+(?:column\s+)?(?:if\s+not\s+exists\s+)?(?!constraint|foreign|primary|check|partition|period|system)
        [`"]?[\w$]+[`"]?\s+\w+(?:\s*\([\d,\s]*\))?(?:\s+unsigned)?(?:\s+character\s+set\s+\w+)?(?:\s+collate\s+\w+)?
        (?:\s+null)?(?:\s+default\s+null)?(?:\s+comment\s+'[^']*')?(?:\s+(?:first|after\s+[`"]?[\w$]+[`"]?))? |
    (?:comment|auto_increment|algorithm|lock|engine|stats_\w+|row_format|key_block_size)\s*=?\s*(?:'[^']*'|\w+) |
    force | (?:enable|disable)\s+keys | (?:no)?wait(?:\s+\d+)?
    )""",
    re.DOTALL | re.VERBOSE,
)


class Effect(Enum):
    """What a statement does to a table.

    Attributes:
        NONE: nothing.
        TRUNCATED: every row is gone.
        COLUMNS: columns were added that are null, or are gone; rows are what they were.
        UNKNOWN: it may have changed rows, and how is not told.
        AS_STATEMENT: it is a change of rows that was logged as a statement.
    """

    NONE = auto()
    TRUNCATED = auto()
    COLUMNS = auto()
    UNKNOWN = auto()
    AS_STATEMENT = auto()


def effect_of(sql: str, database: str, schema: str, table: str, folds: bool = False) -> Effect:
    """What a statement does to a table.

    Args:
        sql: the statement.
        database: the one in which it was made.
        schema, table: the table, and where it is.
        folds: whether names of tables are the same in large and in small letters.
    """
    plain = COMMENT.sub(" ", sql).strip().rstrip("; \n\t")
    first = re.match(r"(?:/\*M?!\d*\s*)?(\w*)", plain)
    word = first[1].lower() if first else ""
    if word in CHANGING:
        return Effect.NONE if RECORDED.match(plain) else Effect.AS_STATEMENT
    if word not in DEFINING:
        return Effect.NONE
    whole = re.match(r"(?:drop|create|alter)\s+(?:or\s+replace\s+)?(?:database|schema)\s+(.*)", plain, FLAGS)
    if whole:
        return _on_database(word, whole[1], schema, folds)
    here = _same(database, schema, folds)
    if not _names(plain, table) or not (here or _names(plain, schema)):
        return Effect.NONE
    effect = EFFECTS.get(word)
    return effect(plain, lambda named: _is(named, schema, table, here, folds)) if effect else Effect.NONE


FLAGS = re.IGNORECASE | re.DOTALL
# A name, maybe with that of its database.
NAME = r"(?:`[^`]+`|\"[^\"]+\"|[\w$]+)(?:\s*\.\s*(?:`[^`]+`|\"[^\"]+\"|[\w$]+))?"
NOWAIT = r"(?:\s+(?:nowait|wait\s+\d+))?"


def _names(sql: str, name: str) -> bool:
    return re.search(BEFORE + re.escape(name) + BEHIND, sql, re.IGNORECASE) is not None


def _same(one: str, other: str, folds: bool) -> bool:
    return one.lower() == other.lower() if folds else one == other


def _is(named: str, schema: str, table: str, here: bool, folds: bool) -> bool:
    """Whether a name as it is written is the table's."""
    parts = [one.strip('`"') for one in re.findall(r"`[^`]+`|\"[^\"]+\"|[\w$]+", named)]
    if not parts or not _same(parts[-1], table, folds):
        return False
    return here if len(parts) == 1 else _same(parts[0], schema, folds)


def _on_database(word: str, rest: str, schema: str, folds: bool) -> Effect:
    dropped = re.fullmatch(r"(?:if\s+exists\s+)?(\S+)", rest.strip(), FLAGS)
    if word != "drop" or dropped is None:
        return Effect.NONE  # what is created is empty, and altered are only its words for what is made later
    return Effect.TRUNCATED if _same(dropped[1].strip('`"'), schema, folds) else Effect.NONE


def _truncate(sql: str, is_ours: Callable[[str], bool]) -> Effect:
    found = re.fullmatch(rf"truncate\s+(?:table\s+)?({NAME}){NOWAIT}", sql, FLAGS)
    if found is None:
        return Effect.UNKNOWN
    return Effect.TRUNCATED if is_ours(found[1]) else Effect.NONE


def _drop(sql: str, is_ours: Callable[[str], bool]) -> Effect:
    """A table that is gone has no rows; if it comes again, it is empty."""
    if not re.match(r"drop\s+(?:tables?|view)\b", sql, FLAGS):
        return Effect.NONE  # an index, a trigger, a temporary table, or something else that is no table of rows
    found = re.fullmatch(
        rf"drop\s+(?:tables?|view)\s+(?:if\s+exists\s+)?({NAME}(?:\s*,\s*{NAME})*){NOWAIT}(?:\s+(?:restrict|cascade))?(?:\s*/\*.*\*/)?",
        sql, FLAGS,
    )  # fmt: skip
    if found is None:
        return Effect.UNKNOWN
    ours = any(is_ours(one) for one in re.findall(NAME, found[1]))
    return Effect.TRUNCATED if ours else Effect.NONE


def _create(sql: str, is_ours: Callable[[str], bool]) -> Effect:
    """A table that is made is empty: what is put into it at once is logged as rows."""
    found = re.match(rf"create\s+(or\s+replace\s+)?table\s+(?:if\s+not\s+exists\s+)?({NAME})", sql, FLAGS)
    replaced = found is not None and found[1] and is_ours(found[2])
    return Effect.TRUNCATED if replaced else Effect.NONE


def _alter(sql: str, is_ours: Callable[[str], bool]) -> Effect:
    begin = re.match(rf"alter\s+(?:online\s+)?(?:ignore\s+)?table\s+(?:if\s+exists\s+)?({NAME}){NOWAIT}\s+", sql, FLAGS)
    if begin is None:
        other = re.match(
            r"alter\s+(?:event|procedure|function|user|server|sequence|view|algorithm|definer|sql)\b", sql, FLAGS
        )
        return Effect.NONE if other else Effect.UNKNOWN
    if not is_ours(begin[1]):
        # Another table: it may be renamed to this one, or exchange its rows with it.
        return Effect.UNKNOWN if re.search(r"\b(?:rename|exchange)\b", sql[begin.end() :], FLAGS) else Effect.NONE
    parts = _parts(sql[begin.end() :])
    return Effect.COLUMNS if all(HARMLESS.fullmatch(part.strip().lower()) for part in parts) else Effect.UNKNOWN


def _rename(sql: str, is_ours: Callable[[str], bool]) -> Effect:
    return Effect.UNKNOWN if re.match(r"rename\s+table", sql, FLAGS) else Effect.NONE


# What a statement that names the table does to it, maybe as something else, by its first word.
EFFECTS = {"truncate": _truncate, "drop": _drop, "create": _create, "alter": _alter, "rename": _rename}


def _parts(sql: str) -> list[str]:
    """What stands between the commas of a statement that are in no brackets and no quotes."""
    parts, depth, begin = [], 0, 0
    for found in re.finditer(r"'(?:[^'\\]|''|\\.)*'|`[^`]*`|\"[^\"]*\"|[(),]", sql):
        sign = found[0]
        depth += (sign == "(") - (sign == ")")
        if sign == "," and depth == 0:
            parts.append(sql[begin : found.start()])
            begin = found.end()
    return [*parts, sql[begin:]]
