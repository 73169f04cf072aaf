"""Collapsing five million changes, beside pandas, polars and DuckDB SQL written by hand for the same answer.

The answer: for each key its operation, the first old row, the last new row, how many changes, first and last
position; keys whose row ended as it began are left out. Ours runs as it does with numba (``plainstep[fast]``), and by whole
arrays, as it does without. The same again with a third each of the operations, at random, of which most contradict those before
them: ours counts these, the peers do not.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from typing import Any
from unittest import mock

import duckdb
import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc

from benchmarks import best_of, row, seconds
from plainstep.core.changes import groups
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.collapse import collapse

CHANGES = int(sys.argv[1]) if len(sys.argv) > 1 else 5_000_000


def history(key_values: dict[str, pa.Array], ranks: np.ndarray, at_random: bool = False) -> pa.Table:
    """A feed as the flat form has it, of changes that follow on each other, or of operations at random."""
    count = len(ranks)
    chance = np.random.default_rng(3)
    op = chance.integers(1, 4, count).astype(np.int8) if at_random else consistent(ranks)
    has_was, has_now = pa.array(op != 1), pa.array(op != 3)
    at = pa.array(np.arange(count) * 1000 + 1_772_000_000_000_000, pa.timestamp("us", "UTC"))
    columns: dict[str, Any] = {"op": pa.array(op), "seq": pa.array(np.arange(1, count + 1)), "at": at}
    height, girth = chance.random(count).round(2), chance.integers(0, 300, count)
    for side, has, shift in (("was.", has_was, 0), ("now.", has_now, 1)):
        nothing = pa.scalar(None)
        for name, values in key_values.items():
            columns[side + name] = pc.if_else(has, values, nothing.cast(values.type))
        columns[side + "height_m"] = pc.if_else(has, pa.array(height + shift), nothing.cast(pa.float64()))
        columns[side + "girth_cm"] = pc.if_else(has, pa.array(girth + shift), nothing.cast(pa.int64()))
    return pa.table(columns)


def consistent(ranks: np.ndarray) -> np.ndarray:
    """Operations: a third of the keys begin with an insert, all are updated, and a tenth of them are deleted at every ninth change
    and inserted again at the tenth."""
    count = len(ranks)
    order = np.argsort(ranks, kind="stable")
    turn = np.empty(count, np.int64)
    starts = np.flatnonzero(np.concatenate(([True], np.diff(ranks[order]) != 0)))
    lengths = np.diff(np.concatenate((starts, [count])))
    turn[order] = np.arange(count) - np.repeat(starts, lengths)
    new_key = ranks % 3 == 0
    op = np.full(count, 2, np.int8)
    comes_and_goes = ranks % 10 == 1
    op[comes_and_goes & (turn % 10 == 8)] = 3
    op[comes_and_goes & (turn % 10 == 9)] = 1
    op[new_key & (turn == 0)] = 1
    return op


def by_plainstep(table: pa.Table, key: list[str]) -> pa.Table:
    return collapse(Changes(table), key).to_arrow()


def by_arrays(table: pa.Table, key: list[str]) -> pa.Table:
    """The same without numba."""
    with mock.patch.object(groups, "worth", lambda rows: False):
        return by_plainstep(table, key)


def by_polars(frame: pl.DataFrame, key: list[str]) -> pl.DataFrame:
    others = ["height_m", "girth_cm"]
    return (
        frame.lazy()
        .with_columns([pl.coalesce("now." + name, "was." + name).alias(name) for name in key])
        .group_by(key)
        .agg(
            [pl.col("op").first().alias("first_op"), pl.col("op").last().alias("last_op"), pl.len().alias("count")]
            + [pl.col("seq").first().alias("first_seq"), pl.col("seq").last().alias("last_seq"), pl.col("at").last()]
            + [pl.col("was." + name).first() for name in others]
            + [pl.col("now." + name).last() for name in others]
        )
        .with_columns(
            pl.when(pl.col("first_op") == 1)
            .then(pl.when(pl.col("last_op") == 3).then(None).otherwise(pl.lit("insert")))
            .otherwise(pl.when(pl.col("last_op") == 3).then(pl.lit("delete")).otherwise(pl.lit("update")))
            .alias("op")
        )
        .filter(
            pl.col("op").is_not_null()
            & ~(
                (pl.col("op") == "update")
                & pl.all_horizontal([pl.col("was." + n).eq_missing(pl.col("now." + n)) for n in others])
            )
        )
        .collect()
    )


def by_pandas(frame: pd.DataFrame, key: list[str]) -> pd.DataFrame:
    keys = pd.DataFrame({name: frame["now." + name].fillna(frame["was." + name]) for name in key})
    group = keys.groupby(key, sort=False, observed=True).ngroup().to_numpy()
    size = group.max() + 1
    order = np.arange(len(group))
    last = np.empty(size, np.int64)
    last[group] = order
    first = np.empty(size, np.int64)
    first[group[::-1]] = order[::-1]
    op = frame["op"].to_numpy()
    first_op, last_op = op[first], op[last]
    net = keys.iloc[last].reset_index(drop=True)
    came: Any = np.where(last_op == 3, np.array(None, object), "insert")
    net["op"] = np.where(first_op == 1, came, np.where(last_op == 3, "delete", "update"))
    net["count"] = np.bincount(group)
    seq = frame["seq"].to_numpy()
    net["first_seq"], net["last_seq"], net["last_at"] = seq[first], seq[last], frame["at"].to_numpy()[last]
    same = np.ones(size, bool)
    for name in ("height_m", "girth_cm"):
        net["was." + name] = frame["was." + name].to_numpy()[first]
        net["now." + name] = frame["now." + name].to_numpy()[last]
        same &= (net["was." + name] == net["now." + name]).to_numpy()
    return net[net["op"].notna() & ~((net["op"] == "update") & same)]


def by_duckdb(connection: duckdb.DuckDBPyConnection, key: list[str]) -> pa.Table:
    keys = ", ".join(f'coalesce("now.{name}", "was.{name}") AS {name}' for name in key)
    names = ", ".join(key)
    return connection.sql(f"""
        SELECT * FROM (
            SELECT {names}, count(*) AS count, min(seq) AS first_seq, max(seq) AS last_seq, arg_max("at", seq) AS last_at,
                CASE WHEN arg_min(op, seq) = 1 THEN CASE WHEN arg_max(op, seq) = 3 THEN NULL ELSE 'insert' END
                     WHEN arg_max(op, seq) = 3 THEN 'delete' ELSE 'update' END AS op,
                arg_min(old, seq).h AS "was.height_m", arg_min(old, seq).g AS "was.girth_cm",
                arg_max(new, seq).h AS "now.height_m", arg_max(new, seq).g AS "now.girth_cm"
            FROM (SELECT op, seq, "at", {keys},
                         {{'h': "was.height_m", 'g': "was.girth_cm"}} AS old, {{'h': "now.height_m", 'g': "now.girth_cm"}} AS new
                  FROM feed) GROUP BY {names})
        WHERE op IS NOT NULL
            AND NOT (op = 'update' AND "was.height_m" IS NOT DISTINCT FROM "now.height_m"
                     AND "was.girth_cm" IS NOT DISTINCT FROM "now.girth_cm")
    """).to_arrow_table()


def cases() -> list[tuple[str, dict[str, pa.Array], np.ndarray]]:
    chance = np.random.default_rng(1)
    found = []
    for label, keys in (("10 changes a key", CHANGES // 10), ("2 changes a key", CHANGES // 2)):
        ranks = chance.integers(0, keys, CHANGES)
        sparse = chance.permutation(np.arange(keys, dtype=np.int64) * 1_000_003)[ranks]
        texts = pc.binary_join_element_wise(pa.scalar("tree-"), pc.cast(pa.array(sparse % 10**10), pa.string()), "")
        found += [
            (f"dense integer, {label}", {"k": pa.array(ranks)}, ranks),
            (f"sparse integer, {label}", {"k": pa.array(sparse)}, ranks),
            (f"string, {label}", {"k": texts}, ranks),
            (f"two columns, {label}", {"ward": pa.array(sparse % 97), "k": texts}, ranks),
        ]
    return found


WIDTHS = (36, 12, 12, 12, 12, 12, 9, 9)


def main() -> None:
    print(f"\ncollapse: {CHANGES:,} changes to net changes (best of 3; ratio: the fastest peer's time to ours)\n")
    for at_random in (False, True):
        print("\noperations at random\n" if at_random else "\nchanges that follow on each other\n")
        row("key", "numba", "arrays", "polars", "pandas", "DuckDB", "ratio", "(arrays)", widths=WIDTHS)
        for label, keys, ranks in cases():
            measured(label, history(keys, ranks, at_random), list(keys), at_random)


def measured(label: str, table: pa.Table, key: list[str], at_random: bool) -> None:
    """Print a line."""
    as_polars = pl.DataFrame(table)
    with duckdb.connect() as connection:
        connection.register("feed", table)
        contenders: list[Callable[[], Any]] = [
            lambda: by_plainstep(table, key),
            lambda: by_arrays(table, key),
            lambda: by_polars(as_polars, key),
            lambda: by_duckdb(connection, key),
        ]
        answers = [one() for one in contenders]
        agree(answers[0], answers[1], label)
        agree(answers[0], answers[2].to_arrow(), label)
        sizes = {len(answer) for answer in answers}
        del answers
        times = best_of(3, *contenders)
    slowest = "-"
    if not at_random:
        as_pandas = table.to_pandas()
        began = time.perf_counter()
        sizes.add(len(by_pandas(as_pandas, key)))  # it takes so long that once must do
        slowest = seconds(time.perf_counter() - began)
    assert len(sizes) == 1, sizes
    fastest = min(times[2:])
    told = (*map(seconds, times[:3]), slowest, seconds(times[3]))
    row(label, *told, f"{fastest / times[0]:.2f} x", f"{fastest / times[1]:.2f} x", widths=WIDTHS)


def agree(ours: pa.Table, theirs: pa.Table, label: str) -> None:
    """Both answers row for row."""
    names = ["last_seq", "first_seq", "count", "op", "was.height_m", "now.height_m", "was.girth_cm", "now.girth_cm"]
    left, right = (one.select(names).sort_by("last_seq") for one in (ours, theirs))
    schema = left.schema
    assert left.equals(pa.Table.from_arrays([right[name].cast(schema.field(name).type) for name in names], names)), (
        label
    )


if __name__ == "__main__":
    main()
