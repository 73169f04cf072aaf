"""Odd tables of SQLite, and statements that people run on them."""

from __future__ import annotations

from hypothesis import strategies as st

from tests.support import TREE

AWKWARD = 'Größe "x" of [select] 木'


KINDS = {
    "rowid": TREE,
    "without rowid": "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER UNIQUE, b TEXT) WITHOUT ROWID",
    "composite": "CREATE TABLE tree (k INTEGER, a INTEGER NOT NULL, b TEXT, PRIMARY KEY (k, a))",
    "unique": "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER UNIQUE, b TEXT COLLATE NOCASE UNIQUE)",
    "text key": "CREATE TABLE tree (k TEXT COLLATE NOCASE PRIMARY KEY NOT NULL, a INTEGER, b TEXT, UNIQUE (a, b))",
    "generated": "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER, b TEXT, "
    "c INTEGER GENERATED ALWAYS AS (coalesce(a, 0) + 1) STORED, d TEXT AS (b || '!') VIRTUAL UNIQUE)",
    "partial index": TREE + "; CREATE UNIQUE INDEX live ON tree (a) WHERE b IS NOT NULL",
    "strict": "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER UNIQUE, b TEXT) STRICT",
    "own triggers": TREE + "; CREATE TABLE log (x); "
    "CREATE TRIGGER touched AFTER INSERT ON tree WHEN NEW.b = 'oak' BEGIN UPDATE tree SET b = 'OAK' WHERE k = NEW.k; END; "
    "CREATE TRIGGER felled AFTER UPDATE ON tree WHEN NEW.a = 3 BEGIN DELETE FROM tree WHERE k = NEW.k; "
    "INSERT INTO log VALUES (OLD.a); END; "
    "CREATE TRIGGER before_all BEFORE DELETE ON tree BEGIN INSERT INTO log VALUES (1); END",
}


key = st.integers(0, 4)


number = st.sampled_from(["NULL", "0", "1", "2", "3"])


word = st.sampled_from(["NULL", "'oak'", "'Oak'", "'elm'", "''"])


policy = st.sampled_from(["", "OR REPLACE", "OR IGNORE", "OR FAIL"])


values = st.builds("({}, {}, {})".format, key, number, word)


statements = st.one_of(
    st.builds(
        "INSERT {} INTO tree (k, a, b) VALUES {};".format,
        policy,
        st.lists(values, min_size=1, max_size=3).map(", ".join),
    ),
    st.builds(
        "INSERT INTO tree (k, a, b) VALUES {} ON CONFLICT DO UPDATE SET a = excluded.a, b = coalesce(excluded.b, b);".format,
        values,
    ),
    st.builds("UPDATE {} tree SET a = {}, b = {} WHERE k >= {};".format, policy, number, word, key),
    st.builds("UPDATE {} tree SET k = k + 1 WHERE k = {};".format, policy, key),
    st.builds("DELETE FROM tree WHERE k = {};".format, key),
    st.just("DELETE FROM tree;"),
    st.sampled_from(["PRAGMA recursive_triggers = ON;", "PRAGMA recursive_triggers = OFF;", "VACUUM;"]),
)
