"""Schemas of a registry: Protobuf, and Avro schemas that refer to others."""

from __future__ import annotations

import base64
import random
import struct
from typing import Any

from google.protobuf import descriptor_pool, message_factory, timestamp_pb2
from google.protobuf.descriptor_pb2 import DescriptorProto, FieldDescriptorProto, FileDescriptorProto

from plainstep.formats.protobuf_values import ProtobufValues
from plainstep.formats.values import NOTHING
from tests.histories import story
from tests.support import examples
from tests.test_messages import WORDS, Registered, encoded, record, spoiled
from tests.test_streams import Bed, without_truncates

PROTOBUF = 'message = { value = "protobuf" }\n' + WORDS + 'was = "before.*"\nnow = "after.*"\n'
TREE = {"k": "int64", "a": "optional int64", "b": "optional string"}
ENVELOPE = {"what": "string", "before": ".larkmoor.Tree", "after": ".larkmoor.Tree"}


def message(name: str, fields: dict[str, str], *nested: DescriptorProto) -> DescriptorProto:
    """A message with fields by name, each with its type: ``int64``, ``optional int64``, ``repeated .larkmoor.Tree``."""
    found = DescriptorProto(name=name, nested_type=nested)
    for number, (field, said) in enumerate(fields.items(), 1):
        *label, kind = said.split(" ")
        one = found.field.add(name=field, number=number, label=3 if label == ["repeated"] else 1)
        if kind.startswith("."):
            one.type_name = kind
            one.type = FieldDescriptorProto.TYPE_ENUM if kind.endswith("Kind") else FieldDescriptorProto.TYPE_MESSAGE
        else:
            one.type = FieldDescriptorProto.Type.Value(f"TYPE_{kind.upper()}")
        if label == ["optional"]:
            one.proto3_optional, one.oneof_index = True, len(found.oneof_decl)
            found.oneof_decl.add(name=f"_{field}")
    return found


def file(*messages: DescriptorProto, imports: tuple[str, ...] = (), name: str = "default") -> FileDescriptorProto:
    return FileDescriptorProto(
        name=name, package="larkmoor", syntax="proto3", message_type=messages, dependency=imports
    )


def made(name: str, *files: FileDescriptorProto) -> Any:
    """The class of a message."""
    pool = descriptor_pool.DescriptorPool()
    pool.AddSerializedFile(timestamp_pb2.DESCRIPTOR.serialized_pb)
    for one in files:
        pool.Add(one)
    return message_factory.GetMessageClass(pool.FindMessageTypeByName(f"larkmoor.{name}"))


def compiled(one: FileDescriptorProto, **said: Any) -> dict[str, Any]:
    """What a registry is told of a file."""
    return {"schemaType": "PROTOBUF", "compiled": base64.b64encode(one.SerializeToString()).decode()} | said


def sent(number: int, value: Any, path: bytes = b"\0") -> bytes:
    return struct.pack(">bI", 0, number) + path + bytes(value.SerializeToString())


class Schemas(Registered):
    def play(self, bed: Bed, seed: int, number: int, path: bytes, envelope: Any, *left: str) -> None:
        """Change the table; what changed is sent in Protobuf."""
        done = len(bed.model.changes)
        for act in without_truncates(story(seed, 12, 150, rekeys=False)):
            bed.model.act(*act)
        words = {"insert": "planted", "update": "grew", "delete": "felled"}
        messages = []
        for change in bed.model.changes[done:]:
            sides = {
                side: {name: value for name, value in change[was].items() if value is not None and name not in left}
                for side, was in (("before", "was"), ("after", "now"))
                if change[was]
            }
            value = sent(number, envelope(what=words[change["op"]], **sides), path)
            messages.append(((change["was"] or change["now"])["k"], value))
        self.broker.send(*messages)

    def test_protobuf_with_imports_and_a_schema_that_grows(self) -> None:
        narrow = {name: TREE[name] for name in "ka"}
        bed = self.bed(PROTOBUF)
        for seed, fields, path in ((1, narrow, b"\x02\x02"), (2, TREE, b"\x02\x02"), (3, TREE, b"\x04\x02\x00")):
            tree = file(message("Tree", fields), name="tree.proto")
            self.registry.add("tree", None, **compiled(tree))
            inner = message("Envelope", ENVELOPE)
            outer = file(
                message("Other", {"x": "string"}), message("Holder", {}, inner) if len(path) > 2 else inner,
                imports=("tree.proto",), name=f"schema {seed}",
            )  # fmt: skip
            refers = [{"name": "tree.proto", "subject": "tree", "version": seed}]
            number = self.registry.add(f"{self.broker.name}-value", None, **compiled(outer, references=refers))
            envelope = made("Holder.Envelope" if len(path) > 2 else "Envelope", tree, outer)
            self.play(bed, seed, number, path, envelope, *([] if fields == TREE else ["b"]))
            bed.project.step(*(["house"] if seed < 3 else []))
            if seed == 1:
                for row in bed.model.rows.values():
                    row["b"] = None
                self.assertEqual({key: row | {"b": None} for key, row in bed.target("house").items()}, bed.model.rows)
            else:
                self.assertEqual(bed.target("house"), bed.model.rows)
        self.assertEqual(bed.target("shed"), bed.model.rows)
        self.assertTrue(all(one.ok for one in bed.project.check()))
        proposal = bed.run("init", "--changes", f"broker.{self.broker.name}").output
        self.assertIn('"value" = "protobuf"', proposal)

    def test_every_type_of_protobuf(self) -> None:
        entry = message("CountsEntry", {"key": "string", "value": "int32"})
        entry.options.map_entry = True
        numbers = ("double", "float", "int32", "uint32", "uint64", "sint64", "fixed64", "sfixed32")
        fields = {f"f{place}": kind for place, kind in enumerate(numbers)} | {
            "id": "int64", "flag": "bool", "name": "string", "data": "bytes", "kind": ".larkmoor.Kind", "maybe": "optional int32",
            "at": ".google.protobuf.Timestamp", "tags": "repeated string", "counts": "repeated .larkmoor.Tree.CountsEntry",
            "crown": ".larkmoor.Crown", "branches": "repeated .larkmoor.Crown", "parent": ".larkmoor.Tree",
        }  # fmt: skip
        one = file(
            message("Tree", fields, entry),
            message("Crown", {"width": "double", "note": "optional string"}),
            imports=("google/protobuf/timestamp.proto",),
        )
        one.enum_type.add(name="Kind").value.add(name="OAK", number=0)
        one.enum_type[0].value.add(name="ELM", number=3)
        cls = made("Tree", one)
        full = cls(
            f0=0.5, f1=0.25, f2=-7, f3=2**32 - 1, f4=2**64 - 1, f5=-(2**62), f6=2**63, f7=-3, id=1, flag=True, name="oak ü", data=b"\0\xff",
            kind=3, maybe=0, tags=["a", ""], counts={"x": 1}, crown={"width": 2.5}, branches=[{"width": 1}, {"note": "n"}],
            parent={"id": 9},
        )  # fmt: skip
        full.at.seconds, full.at.nanos = 1_790_000_000, 123_456_789
        reader = ProtobufValues(lambda _: [("default", one.SerializeToString())], "They")
        table, wrong = reader.read([sent(1, full), None, sent(1, cls(id=2, kind=77))])
        self.assertEqual(wrong, {})
        rows = table.to_pylist()
        self.assertEqual(
            {name: rows[0][name] for name in rows[0] if name not in ("at", "parent")},
            {"f0": 0.5, "f1": 0.25, "f2": -7, "f3": 2**32 - 1, "f4": 2**64 - 1, "f5": -(2**62), "f6": 2**63, "f7": -3, "id": 1,
             "flag": True, "name": "oak ü", "data": b"\0\xff", "kind": "ELM", "maybe": 0, "tags": ["a", ""], "counts": [("x", 1)],
             "crown": {"width": 2.5, "note": None}, "branches": [{"width": 1.0, "note": None}, {"width": 0.0, "note": "n"}]},
        )  # fmt: skip
        self.assertEqual(rows[0]["at"].isoformat(), "2026-09-21T14:13:20.123456+00:00")
        self.assertEqual(rows[0]["parent"], '{"id": "9"}')
        self.assertTrue(all(value is None for value in rows[1].values()))
        self.assertEqual(
            [rows[2][name] for name in ("kind", "maybe", "crown", "at", "flag")], ["77", None, None, None, False]
        )

    def test_spoiled_values_spoil_no_others(self) -> None:
        one, chance = file(message("Tree", TREE)), random.Random(5)
        cls = made("Tree", one)
        reader = ProtobufValues(lambda number: [("t", one.SerializeToString())] if number == 1 else [], "They")
        good = [sent(1, cls(k=k, a=k, b="oak" * k)) for k in range(40)]
        for _ in range(examples(200)):
            values, whole = spoiled(good, chance)
            table, wrong = reader.read(values)
            self.assertEqual(table.num_rows, len(values))
            rows = table.to_pylist()
            for number in whole:
                self.assertNotIn(number, wrong)
                self.assertEqual(
                    rows[number] | {NOTHING: None}, {NOTHING: None, "k": number, "a": number, "b": "oak" * number}
                )

    def test_protobuf_that_cannot_be_read_is_refused(self) -> None:
        one = file(message("Tree", TREE))
        tree = made("Tree", one)
        wide = made("Tree", file(message("Tree", TREE | {"c": "string"})))
        subject = f"{self.broker.name}-value"
        good = self.registry.add(subject, None, **compiled(one))
        plain = self.registry.add("x", record([{"name": "k", "type": "long"}]))
        text = self.registry.add("y", None, schemaType="PROTOBUF", compiled='syntax = "proto3"; message Tree {}')
        lacking = self.registry.add("z", None, **compiled(file(imports=("nowhere.proto",))))
        bed = self.bed('message = { value = "protobuf" }\n')
        for value, words in (
            (sent(good, wide(k=1, c="x")), "fields that its schema does not have"),
            (sent(good, tree(k=1), b"\x02\x04"), "has no message 2"),
            (sent(good, tree(k=1))[:5], "does not say which message"),
            (b"tree", "names no schema"),
            (sent(plain, tree(k=1)), "is one of avro"),
            (sent(text, tree(k=1)), "as text"),
            (sent(lacking, tree(k=1)), "cannot be read as one of Protobuf"),
            (sent(99, tree(k=1)), "has no schema 99"),
        ):
            with self.subTest(words):
                self.broker.make()
                bed = self.bed('message = { value = "protobuf" }\n')
                self.registry.subjects[f"{self.broker.name}-value"] = [good]
                self.broker.send((0, sent(good, tree(k=0))), (1, value))
                [outcome] = bed.project.step("house", raise_errors=False)
                self.assertEqual(outcome.outcome, "refused", outcome)
                self.assertIn(words, str(outcome.error))
                self.assertFalse(bed.project.load("house").target.standing_table("tree"))

    def test_avro_schemas_that_refer_to_others(self) -> None:
        """A type in one subject, a row of it in a second one, in an envelope that names it twice, in full and in part."""
        kind = {"type": "enum", "name": "Kind", "namespace": "larkmoor.kinds", "symbols": ["oak", "elm"]}
        fields: list[dict[str, Any]] = [
            {"name": "k", "type": "long"},
            {"name": "a", "type": ["null", "larkmoor.kinds.Kind"]},
            {"name": "b", "type": ["null", {"type": "array", "items": "larkmoor.kinds.Kind"}]},
        ]
        tree = record(fields, "Tree") | {"namespace": "larkmoor"}
        envelope = record(
            [
                {"name": "what", "type": "string"},
                {"name": "before", "type": ["null", "larkmoor.Tree"]},
                {"name": "after", "type": ["null", "Tree"]},
            ],
            "Envelope",
        ) | {"namespace": "larkmoor"}
        self.registry.add("kind", kind)
        to_kind = [{"name": "larkmoor.kinds.Kind", "subject": "kind", "version": 1}]
        self.registry.add("tree", tree, references=to_kind)
        number = self.registry.add(
            f"{self.broker.name}-value",
            envelope,
            references=[{"name": "larkmoor.Tree", "subject": "tree", "version": 1}],
        )
        bed = self.bed('message = { value = "avro" }\n' + WORDS + 'was = "before.*"\nnow = "after.*"\n')
        inlined = record(
            [
                {"name": "what", "type": "string"},
                {"name": "before", "type": ["null", tree | {"fields": [fields[0], {"name": "a", "type": ["null", kind]}, fields[2]]}]},
                {"name": "after", "type": ["null", "Tree"]},
            ],
            "Envelope",
        ) | {"namespace": "larkmoor"}  # fmt: skip
        rows = [{"k": 1, "a": "oak", "b": None}, {"k": 1, "a": "elm", "b": ["oak", "elm"]}]
        self.broker.send(
            (1, encoded(inlined, {"what": "planted", "before": None, "after": rows[0]}, number)),
            (1, encoded(inlined, {"what": "grew", "before": rows[0], "after": rows[1]}, number)),
        )
        bed.project.step("house")
        self.assertEqual(bed.target("house"), {1: rows[1] | {"b": '["oak", "elm"]'}})
