"""Delta tables as sources: whoever writes them, whatever their logs and files are like."""

from __future__ import annotations

import json
import os
import random
import shutil
import time
import unittest
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any
from unittest import mock

import pyarrow as pa
import pyarrow.parquet as pq
from deltalake import DeltaTable, write_deltalake
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import plainstep
from tests.lake import RECORDED, ByHand, field, vector
from tests.lakeside import Following
from tests.storage import storage
from tests.support import WITHOUT_SHRINKING, Town, examples

STORES = "[stores.lake]\nurl = '{url}'\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n[stores.shed]\nurl = 'sqlite:///shed.db'\n"
LOAD = "[loads.{name}]\nfrom = 'lake.tree'\ninto = '{name}.tree'\nchanges = 'versions'\nkey = ['k']\n"
SCHEMA = pa.schema([("k", pa.int64()), ("a", pa.int64()), ("b", pa.string())])


class Lakeside(Town):
    """A town that mirrors a Delta table into two stores."""

    def __init__(self, url: str = "delta:///lake") -> None:
        super().__init__()
        self.lake = self.config.parent / "lake"
        self.tree = self.lake / "tree"
        self.floor = 0
        self.lake.mkdir()
        loads = "".join(LOAD.format(name=name) for name in ("house", "shed"))
        self.config.write_text(STORES.format(url=url) + loads)

    @property
    def table(self) -> DeltaTable:
        return DeltaTable(str(self.tree))

    def put(self, *rows: dict[str, Any], mode: Any = "append", **more: Any) -> None:
        write_deltalake(str(self.tree), pa.Table.from_pylist(list(rows), SCHEMA), mode=mode, **more)

    def mirror(self, load: str) -> list[Any]:
        one = self.project.load(load)
        batches = one.target.rows("tree", one.target.fits(one.source.schema()))
        return sorted((row for batch in batches for row in batch.to_pylist()), key=lambda row: str(row["k"]))


class Case(Following):
    def lakeside(self, **more: Any) -> Lakeside:
        found = Lakeside(**more)
        self.addCleanup(found.__exit__)
        return found


acts = st.lists(
    st.tuples(
        st.sampled_from(["append", "update", "delete", "merge", "rekey", "all", "compact", "vacuum", "restore", "checkpoint", "step"]),
        st.integers(0, 9),
    ),
    max_size=14,
)  # fmt: skip


class Written(Case):
    """Tables that the usual library writes."""

    @settings(
        max_examples=examples(12), deadline=None, phases=WITHOUT_SHRINKING, suppress_health_check=list(HealthCheck)
    )
    @given(acts, st.booleans(), st.booleans())
    def test_truth_and_any_cut(self, acts: list[tuple[str, int]], recorded: bool, partitioned: bool) -> None:
        """A stranger changes, compacts, vacuums and restores the table: the mirrors are what it is."""
        town = self.lakeside()
        town.put(
            {"k": 100, "a": 1, "b": "oak"},
            configuration=RECORDED if recorded else {},
            partition_by=["b"] if partitioned else None,
        )
        chance = random.Random(len(acts))
        for word, key in acts:
            if word == "step":
                town.project.step("house")
            else:
                getattr(self, f"_{word}")(town, key, chance)
        self.follow(town, self._rows(town), "house")
        self.follow(town, self._rows(town))

    def _rows(self, town: Lakeside) -> list[dict[str, Any]]:
        return [dict(row) for row in town.table.to_pyarrow_table(columns=SCHEMA.names).to_pylist()]

    def _row(self, key: int, chance: random.Random) -> dict[str, Any]:
        return {"k": key, "a": chance.choice([None, 1, 2]), "b": chance.choice(["oak", "elm", "a b/c%"])}

    def _append(self, town: Lakeside, key: int, chance: random.Random) -> None:
        there = {row["k"] for row in self._rows(town)}
        rows = [self._row(one, chance) for one in range(key, key + 3) if one not in there]
        if rows:
            town.put(*rows)

    def _update(self, town: Lakeside, key: int, chance: random.Random) -> None:
        town.table.update(updates={"a": "coalesce(a, 0) + 1"}, predicate=f"k % 3 = {key % 3}")

    def _delete(self, town: Lakeside, key: int, chance: random.Random) -> None:
        town.table.delete(f"k = {key}")

    def _rekey(self, town: Lakeside, key: int, chance: random.Random) -> None:
        town.table.update(updates={"k": "k + 1000"}, predicate=f"k = {key}")

    def _all(self, town: Lakeside, key: int, chance: random.Random) -> None:
        town.put(*(self._row(one, chance) for one in range(key)), mode="overwrite")

    def _merge(self, town: Lakeside, key: int, chance: random.Random) -> None:
        source = pa.Table.from_pylist([self._row(one, chance) for one in range(key, key + 4)], SCHEMA)
        merge = town.table.merge(source, "t.k = s.k", source_alias="s", target_alias="t")
        merge.when_matched_update_all().when_not_matched_insert_all().execute()

    def _compact(self, town: Lakeside, key: int, chance: random.Random) -> None:
        town.table.optimize.compact()

    def _vacuum(self, town: Lakeside, key: int, chance: random.Random) -> None:
        town.project.step()  # what goes, and was not merged, is another test's matter
        town.table.vacuum(retention_hours=0, enforce_retention_duration=False, dry_run=False)
        town.floor = town.table.version()  # versions before it have lost files

    def _restore(self, town: Lakeside, key: int, chance: random.Random) -> None:
        table = town.table
        if table.version() - key - 1 >= town.floor:
            table.restore(table.version() - key - 1)

    def _checkpoint(self, town: Lakeside, key: int, chance: random.Random) -> None:
        town.table.create_checkpoint()

    def test_columns_that_come(self) -> None:
        town = self.lakeside()
        town.put({"k": 1, "a": 1, "b": "oak"})
        town.project.step()
        wider = pa.table({"k": [2], "a": [2], "b": ["elm"], "c": [2.5]})
        write_deltalake(str(town.tree), wider, mode="append", schema_mode="merge")
        self.follow(town, [{"k": 1, "a": 1, "b": "oak", "c": None}, {"k": 2, "a": 2, "b": "elm", "c": 2.5}])

    def test_positions_and_times(self) -> None:
        town = self.lakeside()
        for key in range(3):
            town.put({"k": key, "a": key, "b": "oak"})
        looked = town.project.look("house", after="0", upto="1").changes.table
        self.assertEqual((looked["now.k"].to_pylist(), looked["position"].to_pylist()), ([1], ["1"]))
        at = town.project.look("house").changes.table["at"].to_pylist()
        found = town.project.look("house", upto=at[1].isoformat()).changes
        self.assertEqual(len(found), sum(one <= at[1] for one in at))
        self.assertRaisesRegex(
            plainstep.PlainStepError, "A position is a version", town.project.look, "house", after="x"
        )
        told = town.run("look", "house", "--after", "start", "--json")
        self.assertEqual([one["position"] for one in json.loads(told.stdout)["changes"]], [0, 1, 2])
        self.assertIn("set to record its changes", town.run("status", "house").output)

    def test_rows_that_are_alike_and_keys_that_are_null(self) -> None:
        """What a table without constraints may hold. Copies of rows are no changes; a null in a key is refused."""
        town = self.lakeside()
        town.put(*({"k": 1, "a": 1, "b": "oak"},) * 2, {"k": 2, "a": 1, "b": "oak"})
        town.config.write_text(
            town.config.read_text() + "shape = 'journal'\ngrain = 'change'\nfirst = 'start'\n"
        )  # the shed's
        town.project.step("shed")
        town.table.update(updates={"a": "5"}, predicate="k = 2")
        [outcome] = town.project.step("shed")
        self.assertEqual(outcome.entry and outcome.entry.changes, 1)
        town.put({"k": None, "a": 1, "b": "oak"})
        self.refused(town, "Several rows of lake.tree have the key k 1", mends=False)
        town.put({"k": 3, "a": 1, "b": "oak"}, {"k": None, "a": 1, "b": "oak"}, mode="overwrite")
        self.assertEqual(town.project.step("house", raise_errors=False)[0].outcome, "refused")
        town.put({"k": 3, "a": 1, "b": "oak"}, mode="overwrite")
        self.follow(town, [{"k": 3, "a": 1, "b": "oak"}], "house")


class Gone(Case):
    """What is not there any more, or is another one."""

    def test_commits_and_files_that_are_gone(self) -> None:
        town = self.lakeside()
        town.put({"k": 1, "a": 1, "b": "oak"})
        town.project.step("house")
        for turn in range(4):
            town.table.update(updates={"a": str(turn)}, predicate="k = 1")
        town.table.create_checkpoint()
        log = town.tree / "_delta_log"
        for number in range(3):
            (log / f"{number:020}.json").unlink()
        self.refused(town, "is merged up to version 0, and lake.tree goes back to version 3 only")
        town.table.update(updates={"a": "7"}, predicate="k = 1")
        town.table.update(updates={"a": "8"}, predicate="k = 1")
        town.table.vacuum(retention_hours=0, enforce_retention_duration=False, dry_run=False)
        self.refused(town, "lacks the file")
        self.follow(town, [{"k": 1, "a": 8, "b": "oak"}])

    def test_another_table_takes_its_place(self) -> None:
        town = self.lakeside()
        for turn in range(3):
            town.put({"k": turn, "a": 1, "b": "oak"})
        town.project.step("house")
        shutil.rmtree(town.tree)
        for turn in range(5):
            town.put({"k": turn, "a": 2, "b": "elm"})
        self.refused(town, "is not the one that is in lake.tree now")

    def test_a_table_that_was_put_back(self) -> None:
        town = self.lakeside()
        for turn in range(2):
            town.put({"k": turn, "a": 1, "b": "oak"})
        shutil.copytree(town.tree, town.lake / "kept")
        town.put({"k": 7, "a": 1, "b": "oak"})
        town.project.step("house")
        shutil.rmtree(town.tree)
        shutil.copytree(town.lake / "kept", town.tree)
        self.refused(town, "is merged up to version 2, and lake.tree ends at version 1")
        town.put({"k": 8, "a": 1, "b": "oak"})
        town.project.step("house")
        shutil.rmtree(town.tree)
        shutil.copytree(town.lake / "kept", town.tree)
        time.sleep(0.01)
        town.put({"k": 9, "a": 1, "b": "oak"})
        town.put({"k": 10, "a": 1, "b": "oak"})
        self.refused(town, "it has another time")

    def test_what_is_not_there(self) -> None:
        town = self.lakeside()
        for words, change in (
            ("There is no Delta table lake.tree", ("", "")),
            ("There is no folder", ("delta:///lake", "delta:///pond")),
            ("names no folder", ("delta:///lake", "delta://lake")),
            ("names no bucket", ("delta:///lake", "delta+s3:///lake")),
            ("has no key of its own", ("key = ['k']\n", "")),
            ("Did you mean|versions", ("changes = 'versions'", "changes = 'version'")),
            ("told by their versions", ("changes = 'versions'", "changes = 'log'")),
        ):
            with self.subTest(words):
                text = town.config.read_text()
                town.config.write_text(text.replace(*change) if change[0] else text)
                if change[0] == "key = ['k']\n":
                    town.put({"k": 1, "a": 1, "b": "oak"})
                done = town.run("step", "house")
                self.assertIn(done.exit_code, (1, 2, 4), done.output)
                self.assertRegex(done.output, words)
                self.assertNotIn("Unexpected", done.output)
                town.config.write_text(text)


class Formed(Case):
    """Logs and files that are written here, as other engines write them."""

    def by_hand(self, *fields: dict[str, Any], **more: Any) -> tuple[Lakeside, ByHand]:
        town = self.lakeside()
        return town, ByHand(
            town.tree, *(fields or (field("k", "long"), field("a", "long"), field("b", "string"))), **more
        )

    def rows(self, *keys: int, a: int = 1) -> pa.Table:
        return pa.table({"k": list(keys), "a": [a] * len(keys), "b": ["oak"] * len(keys)}, SCHEMA)

    def mirrored(self, *keys: int, a: int = 1) -> list[dict[str, Any]]:
        return self.rows(*keys, a=a).to_pylist()

    def test_deletion_vectors(self) -> None:
        town, table = self.by_hand()
        first = table.file(self.rows(*range(10)))
        table.commit({"add": first})
        self.follow(town, self.mirrored(*range(10)), "house")
        inline, more = vector([2, 3]), vector([3, 5, 9], town.tree)
        table.commit({"remove": first}, {"add": first | {"deletionVector": inline}})
        self.follow(town, self.mirrored(0, 1, 4, 5, 6, 7, 8, 9), "house")
        # One row comes back, two more go, and another is written anew.
        other = table.file(self.rows(5, a=2))
        table.commit(
            {"remove": first | {"deletionVector": inline}}, {"add": first | {"deletionVector": more}}, {"add": other}
        )
        whole = [*self.mirrored(0, 1, 2, 4, 6, 7, 8), *self.mirrored(5, a=2)]
        self.follow(town, whole, "house")
        [entry] = town.project.ledger("house")[-1:]
        self.assertEqual((entry.inserts, entry.updates, entry.deletes), (1, 1, 1))
        self.follow(town, whole)
        name = next((town.tree / "ab").iterdir())
        kept = name.read_bytes()
        for spoiled, words in (
            (kept[:-1] + b"\xff", "checksum"),
            (kept[:9], "cannot be read"),
            (None, "lacks the deletion vector"),
        ):
            with self.subTest(words):
                name.unlink(missing_ok=True)
                if spoiled is not None:
                    name.write_bytes(spoiled)
                done = town.run("reload", "shed")
                self.assertIn(done.exit_code, (1, 4), done.output)
                self.assertIn(words, done.output)

    def test_columns_by_other_names(self) -> None:
        """Columns that were renamed: files hold them under names, or numbers, that stay."""
        inner = {
            "type": "struct",
            "fields": [field("width", "double", "col-7", 7), field("note", "string", "col-8", 8)],
        }
        nested = {"type": "array", "elementType": inner, "containsNull": True}
        for mode in ("name", "id"):
            with self.subTest(mode):
                town, table = self.by_hand(
                    field("k", "long", "col-1", 1), field("height", "integer", "col-2", 2), field("crown", nested, "col-3", 3),
                    field("ward", "string", "col-4", 4), configuration={"delta.columnMapping.mode": mode}, partitionColumns=["ward"],
                )  # fmt: skip
                crown = pa.list_(pa.struct([("col-7", pa.float64()), ("col-8", pa.string())]))
                names = ["col-1", "col-2", "col-3"] if mode == "name" else ["x", "y", "z"]
                fields = [
                    pa.field(name, kind, metadata={"PARQUET:field_id": str(number)})
                    for number, (name, kind) in enumerate(zip(names, (pa.int64(), pa.int32(), crown), strict=True), 1)
                ]
                values = [[1, 2], [3, None], [[{"col-7": 1.5, "col-8": "ü"}], None]]
                file = table.file(pa.table([pa.array(one, f.type) for one, f in zip(values, fields, strict=True)], pa.schema(fields)),
                                  partition={"col-4": "east"})  # fmt: skip
                table.commit({"protocol": {"minReaderVersion": 2, "minWriterVersion": 5}}, {"add": file})
                self.follow(
                    town,
                    [
                        {"k": 1, "height": 3, "crown": '[{"width": 1.5, "note": "ü"}]', "ward": "east"},
                        {"k": 2, "height": None, "crown": None, "ward": "east"},
                    ],
                )
                said = table.metadata["schemaString"].replace('"name": "height"', '"name": "tall"')
                table.commit({"metaData": table.metadata | {"schemaString": said}})
                self.refused(town, "height was renamed to tall since house was merged")

    def test_partitions_of_every_type(self) -> None:
        kinds = {
            "s": ("string", "a=b/ü", "a=b/ü"), "i": ("integer", "-7", -7), "d": ("date", "2026-01-02", date(2026, 1, 2)),
            "x": ("decimal(9,2)", "12.50", Decimal("12.50")), "f": ("boolean", "true", True), "n": ("string", "", None), "z": ("double", "0.5", 0.5),
            "t": ("timestamp", "2026-01-02 03:04:05.678", datetime(2026, 1, 2, 3, 4, 5, 678000, UTC)),
            "u": ("timestamp", "2026-01-02T03:04:05.000000Z", datetime(2026, 1, 2, 3, 4, 5, 0, UTC)),
        }  # fmt: skip
        town, table = self.by_hand(
            field("k", "long"),
            *(field(name, kind) for name, (kind, _, _) in kinds.items()),
            partitionColumns=list(kinds),
        )
        file = table.file(pa.table({"k": [1]}), partition={name: text for name, (_, text, _) in kinds.items()})
        table.commit({"add": file})
        town.project.step("house")
        self.assertEqual(town.mirror("house"), [{"k": 1} | {name: value for name, (_, _, value) in kinds.items()}])

    def test_columns_that_were_narrower(self) -> None:
        """A column was widened: older files hold the narrower type; and times as other engines write them."""
        town, table = self.by_hand(field("k", "long"), field("a", "long"), field("t", "timestamp"))
        old = pa.table(
            {
                "k": pa.array([1], pa.int32()),
                "a": pa.array([2], pa.int16()),
                "t": pa.array([5_000_000_000], pa.timestamp("ns")),
            }
        )
        add = table.file(old)
        pq.write_table(old, town.tree / add["path"], use_deprecated_int96_timestamps=True)
        table.commit({"add": add})
        self.follow(town, [{"k": 1, "a": 2, "t": datetime(1970, 1, 1, 0, 0, 5, tzinfo=UTC)}], "house")
        bad = table.file(pa.table({"k": ["one"], "a": [1], "t": [None]}))
        table.commit({"add": bad})
        self.refused(town, "cannot be read in the table's columns", mends=False)

    def test_partitions_that_are_not_repeated_and_tables_that_are_parted_anew(self) -> None:
        town, table = self.by_hand(partitionColumns=["b"])
        rows = self.rows(1, 2)
        first = table.file(rows.drop_columns(["b"]), partition={"b": "oak"})
        table.commit({"add": first})
        town.project.step("house")
        other = table.file(self.rows(2, a=5).drop_columns(["b"]), partition={"b": "oak"})
        table.commit({"remove": {name: first[name] for name in ("path", "dataChange")}}, {"add": other})
        self.follow(town, self.mirrored(2, a=5), "house")
        removed = {"remove": other}
        table.commit(
            removed, {"metaData": table.metadata | {"partitionColumns": []}}, {"add": table.file(self.rows(2, 3, a=5))}
        )
        self.follow(town, self.mirrored(2, 3, a=5), "house")
        [entry] = town.project.ledger("house")[-1:]
        self.assertEqual((entry.inserts, entry.updates, entry.deletes), (1, 0, 0))
        self.follow(town, self.mirrored(2, 3, a=5))

    def test_checkpoints_with_files_beside(self) -> None:
        town, table = self.by_hand()
        files = [table.file(self.rows(key)) for key in range(3)]
        for one in files:
            table.commit({"add": one})
        log = town.tree / "_delta_log"
        (log / "_sidecars").mkdir()
        adds = [{"add": one | {"partitionValues": list(one["partitionValues"].items())}} for one in files[:2]]
        kind = pa.struct([("path", pa.string()), ("partitionValues", pa.map_(pa.string(), pa.string())), ("size", pa.int64()),
                          ("modificationTime", pa.int64()), ("dataChange", pa.bool_())])  # fmt: skip
        pq.write_table(pa.Table.from_pylist(adds, pa.schema([("add", kind)])), log / "_sidecars" / "some.parquet")
        lines = [{"protocol": {"minReaderVersion": 3, "minWriterVersion": 7, "readerFeatures": ["v2Checkpoint"]}},
                 {"metaData": table.metadata}, {"sidecar": {"path": "some.parquet", "sizeInBytes": 1, "modificationTime": 0}}]  # fmt: skip
        name = "00000000000000000002.checkpoint.80a083e8-7026-4e79-81be-64bd76c43a11.json"
        (log / name).write_text("\n".join(map(json.dumps, lines)))
        for number in range(3):
            (log / f"{number:020}.json").unlink()
        self.follow(town, self.mirrored(0, 1, 2))
        # Half of a checkpoint of two parts is none.
        (log / "00000000000000000003.checkpoint.0000000001.0000000002.parquet").write_bytes(b"x")
        self.assertEqual(town.project.step("house")[0].outcome, "nothing")

    def test_files_elsewhere_are_not_read(self) -> None:
        for path in ("../../secret.parquet", "%2E%2E/%2E%2E/secret.parquet", "SECRET", "file://SECRET", "link"):
            with self.subTest(path):
                town, table = self.by_hand()
                secret = town.path / "secret.parquet"
                pq.write_table(self.rows(1), secret)
                (town.tree / "link").symlink_to(secret)
                table.commit({"add": table.file(self.rows(2)) | {"path": path.replace("SECRET", str(secret))}})
                done = town.run("step", "house")
                self.assertIn(done.exit_code, (1, 4), done.output)
                self.assertIn("can have no file", done.output)
                self.assertNotIn("Unexpected", done.output)

    def test_files_that_become_far_more_than_they_are(self) -> None:
        """A text of a megabyte, once in the file, in each of ten thousand rows."""
        town, table = self.by_hand()
        texts = pa.DictionaryArray.from_arrays(pa.array([0] * 10_000, pa.int32()), pa.array(["x" * 1_000_000]))
        table.commit({"add": table.file(pa.table({"k": range(10_000), "a": [1] * 10_000, "b": texts}))})
        done = town.run("step", "house")
        self.assertEqual(done.exit_code, 4, done.output)
        self.assertIn("unpack to more than", done.output)

    def test_what_takes_more_than_is_known(self) -> None:
        for protocol, words in (
            (
                {"minReaderVersion": 3, "minWriterVersion": 7, "readerFeatures": ["columnMapping", "variantType"]},
                "knows variantType",
            ),
            ({"minReaderVersion": 4, "minWriterVersion": 7}, "version 4 of its protocol"),
        ):
            town, table = self.by_hand()
            table.commit({"protocol": protocol}, {"add": table.file(self.rows(1))})
            self.refused(town, words, mends=False)
        town, table = self.by_hand(field("k", "long"), field("v", "interval"))
        table.commit({"add": table.file(self.rows(1))})
        self.assertIn("no equivalent", town.run("step", "house").output)
        (town.tree / "_delta_log" / f"{1:020}.json").write_text('{"add": ')
        self.assertIn("cannot be read", town.run("step", "house").output)


class Buckets(Case):
    """The same in object storage."""

    def test_a_table_in_a_bucket(self) -> None:
        with storage() as said:
            town = self.lakeside(url="delta+s3://larkmoor/lake")
            where = "s3://larkmoor/lake/tree"
            write_deltalake(
                where,
                pa.Table.from_pylist([{"k": 1, "a": 1, "b": "a b/c%"}], SCHEMA),
                partition_by=["b"],
                storage_options=said,
            )
            self.follow(town, [{"k": 1, "a": 1, "b": "a b/c%"}], "house")
            DeltaTable(where, storage_options=said).update(updates={"a": "2"}, predicate="k = 1")
            write_deltalake(
                where, pa.Table.from_pylist([{"k": 2, "a": 1, "b": "elm"}], SCHEMA), mode="append", storage_options=said
            )
            self.follow(town, [{"k": 1, "a": 2, "b": "a b/c%"}, {"k": 2, "a": 1, "b": "elm"}])
            with mock.patch.dict(os.environ, {"AWS_ENDPOINT_URL": "http://127.0.0.1:9"}):
                done = town.run("step", "house")
                self.assertEqual(done.exit_code, 1, done.output)
                self.assertIn("cannot be read", done.output)
                self.assertNotIn("s3cretword", done.output)


if __name__ == "__main__":
    unittest.main()
