"""Whose code would run with our rights.

Whoever owns a table decides what runs when others use it: its triggers, rules and policies, the functions of its defaults, checks
and indexes, the checks of its columns' domains; and what is called a table may be a view. All of that runs with the rights of
whoever reads or writes. So what somebody else owns is looked at first, while it is kept from being changed, and is refused
where it would run anything of theirs. A superuser's own things, and one's own, are trusted.
"""

from __future__ import annotations

from collections.abc import Sequence

from plainstep.errors import Refused
from plainstep.stores.postgresql.connection import Connection, in_transaction

# Everything from this number on was made by somebody, and not with the server (FirstNormalObjectId in its source).
MADE = 16384

FOREIGN = f"""
SELECT c.oid::regclass::text, pg_get_userbyid(c.relowner), CASE
    WHEN c.relkind NOT IN ('r', 'p') THEN 'it is not a table'
    WHEN EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhparent = c.oid) AND c.relkind = 'r' THEN 'a table that inherits from it'
    WHEN NOT %(writes)s AND NOT c.relrowsecurity THEN NULL
    WHEN EXISTS (SELECT 1 FROM pg_rewrite r WHERE r.ev_class = c.oid) THEN 'a rule'
    WHEN EXISTS (SELECT 1 FROM pg_trigger t WHERE t.tgrelid = c.oid AND NOT t.tgisinternal)
        THEN (SELECT 'the trigger ' || min(t.tgname::text) FROM pg_trigger t WHERE t.tgrelid = c.oid AND NOT t.tgisinternal)
    WHEN EXISTS (SELECT 1 FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_type e ON e.oid = t.typelem
                 WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND t.oid >= {MADE}
                   AND coalesce(e.typtype, t.typtype) <> 'e') THEN 'a type that somebody made'
    WHEN EXISTS (SELECT 1 FROM pg_depend d WHERE d.refobjid >= {MADE} AND d.refclassid IN
                 ('pg_proc'::regclass, 'pg_operator'::regclass, 'pg_opclass'::regclass, 'pg_opfamily'::regclass, 'pg_type'::regclass)
                 AND (d.classid, d.objid) IN (
                     SELECT 'pg_attrdef'::regclass::oid, x.oid FROM pg_attrdef x WHERE x.adrelid = c.oid
                     UNION ALL SELECT 'pg_constraint'::regclass::oid, x.oid FROM pg_constraint x WHERE x.conrelid = c.oid
                     UNION ALL SELECT 'pg_policy'::regclass::oid, x.oid FROM pg_policy x WHERE x.polrelid = c.oid
                     UNION ALL SELECT 'pg_class'::regclass::oid, x.indexrelid FROM pg_index x WHERE x.indrelid = c.oid
                 )) THEN 'a function of its defaults, checks, indexes or policies'
    END
FROM pg_class c JOIN pg_roles owner ON owner.oid = c.relowner
WHERE c.oid = ANY (SELECT to_regclass(name) FROM unnest(%(names)s::text[]) name)
  AND owner.rolname <> current_user AND NOT owner.rolsuper"""


def held(connection: Connection, *tables: str, mode: str = "ACCESS SHARE", there: bool = False) -> bool:
    """Keep tables as they are, as long as the transaction takes (if there is one), and refuse what would run others' code.

    Args:
        connection: where.
        tables: their names, as SQL writes them. One that is not there is left out.
        mode: the lock; ``ROW EXCLUSIVE`` to write.
        there: whether all of them are known to be there, so that this need not be asked.

    Returns:
        Whether all of them are our own, or a superuser's: then nobody can put anything into them.

    Raises:
        Refused: somebody else owns one of them, and something of theirs would run.
    """
    if in_transaction(connection):
        found = tables if there else existing(connection, tables)
        if found:
            connection.execute(f"LOCK TABLE {', '.join(found)} IN {mode} MODE")
    return refuse_foreign_code(connection, tables, mode != "ACCESS SHARE")


def existing(connection: Connection, tables: Sequence[str]) -> list[str]:
    """Which tables are there."""
    sql = "SELECT name FROM unnest(%s::text[]) name WHERE to_regclass(name) IS NOT NULL"
    return [name for (name,) in connection.execute(sql, [list(tables)]).fetchall()]


def refuse_foreign_code(connection: Connection, tables: Sequence[str], writes: bool = False) -> bool:
    """The same without a lock."""
    found = connection.execute(FOREIGN, {"names": list(tables), "writes": writes}).fetchall()
    for name, owner, what in found:
        if what:
            raise foreign(connection, name, owner, what)
    return not found


def is_superuser(connection: Connection) -> bool:
    """Whether this role may do everything."""
    return connection.info.parameter_status("is_superuser") == "on"


def foreign(connection: Connection, name: str, owner: str, what: str) -> Refused:
    """The error for a table of somebody else's."""
    row = connection.execute("SELECT current_user").fetchone()
    role = str(row[0]) if row else ""
    return Refused(
        f"{name} belongs to {owner}, and has more to it than a table: {what}.",
        f"It would run with the rights of {role}, whatever {owner} put into it.",
        f"Connect as {owner}; or have {owner} remove it.",
    )
