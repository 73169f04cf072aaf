"""A first plainstep.toml, for stores that are looked at: their tables, keys, and what is captured."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from plainstep.deferred import pa
from plainstep.errors import ConfigError, PlainStepError
from plainstep.init.layout import on_one_line, toml
from plainstep.redaction import shown_url
from plainstep.stores.capabilities import HasCapture, HasTables, HasVersions, Store, captures_of, with_tables
from plainstep.stores.queries import HasQueries
from plainstep.stores.registry import open_store

# What a database needs that tells its changes by functions or clauses of its own.
QUERIES = """
# Nothing of ours records changes there. If the database tells them itself, by functions or clauses, a load reads them by queries
# (docs/stores/sql.md) in place of changes = "diff":
#   [loads.NAME.layout]
#   position = ["COLUMN"]  # which orders the changes
#   operation = "COLUMN"
#   insert = ["CODE"]
#   update = ["CODE"]
#   delete = ["CODE"]
#   [loads.NAME.layout.query]
#   head = "select ..."    # how far can be read
#   oldest = "select ..."  # after which position every change is still there
#   read = "select ... where POSITION > :after and POSITION <= :upto order by POSITION"
""".strip().splitlines()


@dataclass(frozen=True)
class FoundTable:
    """A table of the source.

    Attributes:
        name: its name.
        key: its primary key, or nothing.
        columns: how many columns it has.
        captured: whether its changes are captured already.
        trouble: why it cannot be loaded as it is, or empty.
        hint: the setting that would fix that, or empty.
        how: how its changes are read: ``capture``, ``versions``, or ``diff`` where nothing of ours records them.
    """

    name: str
    key: tuple[str, ...]
    columns: int
    captured: bool
    trouble: str = ""
    hint: str = ""
    how: str = "capture"


def beginning_of(source: str, target: str, tables: tuple[str, ...], base: Path) -> str:
    """A commented plainstep.toml with a load for each table of a store.

    Args:
        source, target: the URLs of two stores.
        tables: which tables; none for all.
        base: the folder that relative paths start from.

    Raises:
        ConfigError: a table is not there, or a store cannot be looked at.
    """
    names = _named(source), _named(target)
    names = names if names[0] != names[1] else (f"{names[0]}_source", f"{names[1]}_target")
    store, _ = (open_store(name, url, base, 10.0) for name, url in zip(names, (source, target), strict=True))
    there = store.tables() if isinstance(store, HasTables) else []
    there = store.versioned() if isinstance(store, HasVersions) else there
    unknown = [name for name in tables if name not in there]
    if unknown:
        raise ConfigError(
            f"{shown_url(source)} has no table {unknown[0]!r}.", "", f"Its tables: {', '.join(there) or 'none'}."
        )
    captured = {one.table for one in captures_of(store)}
    found = [_look(store, name, name in captured) for name in (tables or there)]
    lines = ["# Written by plainstep init. Fix what is wrong, then:"]
    lines += [
        f"#   plainstep capture on {names[0]}.{one.name}"
        for one in found
        if not one.captured and not one.trouble and one.how == "capture"
    ]
    lines += ["#   plainstep step"]
    for name, url in zip(names, (source, target), strict=True):
        plain, variable = _without_password(url, name)
        lines += ["", f"[stores.{name}]", f"url = {toml(plain)}"]
        if variable:
            lines.append(f"# The password is not stored here: export {variable}=... (as it stands in the URL)")
        if name == names[0] and isinstance(store, HasCapture):
            lines.append('# keep = "72h"  # how long captured changes are kept at least')
    if isinstance(store, HasQueries) and not isinstance(store, HasCapture):
        lines += ["", *QUERIES]
    taken: set[str] = set()
    for one in found:
        lines += ["", *_load(one, names, taken)]
    return "\n".join(map(on_one_line, lines)) + "\n"


def _without_password(url: str, store: str) -> tuple[str, str]:
    """A URL that takes its password from the environment, and from which variable; none where there is no password."""
    variable = f"{store.upper()}_PASSWORD"
    scheme, _, rest = url.partition("://")
    who, at, where = rest.rpartition("@")
    user, colon, password = who.partition(":")
    if password:
        return f"{scheme}://{user}{colon}${{{variable}}}{at}{where}", variable
    taken = re.sub(r"(?i)([?&]\w*pass\w*=)[^&]*", rf"\g<1>${{{variable}}}", url)
    return taken, variable if taken != url else ""


def _look(store: Store, name: str, captured: bool) -> FoundTable:
    try:
        if isinstance(store, HasVersions):
            columns = store.source(name, {}, "versions", "").schema()
            hint = f'key = ["COLUMN"]  # those of {", ".join(columns.names)} that are unique and never null'
            return FoundTable(name, (), len(columns), False, "its table says no key", hint, "versions")
        table = with_tables(store).table(name, {})
        schema = table.schema()
        untyped = [field.name for field in schema if pa.types.is_null(field.type)]
        trouble, hint = "", ""
        if untyped:
            trouble = f"the column {untyped[0]} does not say what it holds"
            hint = f'types = {{ {toml(untyped[0])} = "TEXT" }}'
        elif not table.key():
            trouble, hint = "it has no primary key", 'key = ["COLUMN"]  # columns that are unique and never null'
        how = "capture" if isinstance(store, HasCapture) else "diff"
        return FoundTable(name, table.key(), len(schema), captured, trouble, hint, how)
    except PlainStepError as error:
        return FoundTable(name, (), 0, captured, error.what)


def _load(one: FoundTable, stores: tuple[str, str], taken: set[str]) -> list[str]:
    """A load's part; commented out where something must be said first."""
    name = re.sub(r"\W+", "_", one.name.rpartition(".")[2]) or "load"
    while name in taken:
        name += "_too"
    taken.add(name)
    told = f"# {stores[0]}.{one.name}: {one.columns} columns, key {', '.join(one.key) or 'unknown'}"
    told += {"versions": "; versions", "diff": "; compared with the target at each step"}.get(
        one.how, "; captured" if one.captured else "; not captured yet"
    )
    into = one.name.rpartition(".")[2]
    lines = [
        f"[loads.{name}]",
        f"from = {toml(f'{stores[0]}.{one.name}')}",
        f"into = {toml(f'{stores[1]}.{into}')}",
    ]
    lines += [] if one.how == "capture" else [f"changes = {toml(one.how)}"]
    if not one.trouble:
        return [told, *lines]
    return [told, f"# Left out: {one.trouble}.", *(f"# {line}" for line in [*lines, one.hint] if line)]


def _named(url: str) -> str:
    """A store's name, after its file or database."""
    last = re.sub(r"[?#].*$", "", url).rstrip("/").rpartition("/")[2]
    return re.sub(r"\W+", "_", last.rpartition(".")[0] or last) or "store"
