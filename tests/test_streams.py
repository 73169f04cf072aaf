"""Brokers as feeds: every law with each of them, and what only one of them can do to a load."""

from __future__ import annotations

import asyncio
import json
import socket
import threading
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import TYPE_CHECKING, Any
from unittest import mock

import duckdb
import nats
import pika
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from plainstep.copying import replace
from plainstep.loads.load import Load
from plainstep.stores.amqp import connection as amqp
from plainstep.stores.amqp import log as amqp_log
from plainstep.stores.amqp.publisher import ExchangePublisher
from plainstep.stores.nats import log as nats_log
from plainstep.stores.nats.connection import Connection
from plainstep.stores.nats.publisher import SubjectPublisher
from plainstep.stores.publisher import Outgoing
from plainstep.stores.redis import log as redis_log
from tests.brokers import Broker, Kafka, Nats, Rabbit, Redis
from tests.histories import Model, histories, story
from tests.support import TREE, WITHOUT_SHRINKING, Town, examples

WORDS = 'operation = "what"\ninsert = ["planted"]\nupdate = ["grew"]\ndelete = ["felled"]\n'
ENVELOPE = WORDS + 'was = "before.*"\nnow = "after.*"\nmissing_field = "null"\n'
OPERATIONS = {"insert": "planted", "update": "grew", "delete": "felled"}
STEP = "import sys, plainstep; plainstep.load_project(sys.argv[1]).step()"


class Bed(Town):
    """A town that reads from a broker into two targets, and what its table should hold."""

    def __init__(self, broker: Broker, layout: str = ENVELOPE, load: str = "", url: str = "") -> None:
        super().__init__()
        self.broker, self.model = broker, Model()
        text = f'[stores.broker]\nurl = "{url or broker.url}"\n'
        for into in ("house", "shed"):
            text += f'[stores.{into}]\nurl = "{"duckdb" if into == "house" else "sqlite"}:///{into}.db"\n'
            text += f'[loads.{into}]\nfrom = "broker.{broker.name}"\ninto = "{into}.tree"\nkey = ["k"]\n{load}'
            text += f"[loads.{into}.layout]\n{layout}{broker.layout}"
        self.config.write_text(text)

    def play(self, *acts: tuple[str, Any, Any]) -> None:
        """Change the table; what changed goes to the broker, a change of a key as a delete and an insert, of two keys."""
        done = len(self.model.changes)
        for act in acts:
            self.model.act(*act)
        messages: list[tuple[Any, Any]] = []
        for change in self.model.changes[done:]:
            was, now = change["was"], change["now"]
            if was and now and was["k"] != now["k"]:
                messages += [(was["k"], envelope("delete", was, None)), (now["k"], envelope("insert", None, now))]
            else:
                messages.append(((was or now)["k"], envelope(change["op"], was, now)))
        self.broker.send(*messages)

    def target(self, load: str) -> dict[int, Any]:
        """What a target holds, by key."""
        one = self.project.load(load)
        batches = one.target.rows("tree", one.source.schema()) if one.target.standing_table("tree") else ()
        return {row["k"]: row for batch in batches for row in batch.to_pylist()}


def envelope(op: str, was: Any, now: Any) -> dict[str, Any]:
    """A change as messages tell it."""
    return {"what": OPERATIONS[op], "before": was, "after": now}


def without_truncates(history: list[tuple[str, Any, Any]]) -> list[tuple[str, Any, Any]]:
    return [act for act in history if act[0] != "truncate"]


if TYPE_CHECKING:
    _Case = unittest.TestCase
else:  # what is held of every broker is no test by itself
    _Case = object


class Laws(_Case):
    """What holds of every broker; see ``tests.test_streams.ByKafka``."""

    broker_of: type[Broker]

    def setUp(self) -> None:
        self.broker = self.broker_of()
        self.addCleanup(self.broker.close)

    def bed(self, *args: Any, **said: Any) -> Bed:
        made = Bed(self.broker, *args, **said)
        self.addCleanup(made.__exit__, None)
        return made

    def holds(self, bed: Bed) -> None:
        """Both targets hold the table; nothing is left to do, and status and check say so."""
        for load in ("house", "shed"):
            self.assertEqual(bed.target(load), bed.model.rows, load)
        for outcome in bed.project.step():
            self.assertEqual(outcome.outcome, "nothing")
        self.assertEqual({one.health for one in bed.project.status()}, {"ok"})
        self.assertTrue(all(one.ok for one in bed.project.check()))

    def looked(self, bed: Bed, **said: Any) -> list[Any]:
        return list(bed.project.look("house", **said).to_dict()["changes"])

    @settings(
        max_examples=examples(5), deadline=None, phases=WITHOUT_SHRINKING, suppress_health_check=list(HealthCheck)
    )
    @given(st.lists(histories, min_size=1, max_size=4))
    def test_truth_and_any_cut(self, cuts: list[list[tuple[str, Any, Any]]]) -> None:
        self.broker = self.broker_of()
        with Bed(self.broker) as bed:
            bed.play(("insert", 0, {"a": 1, "b": "oak"}), ("update", 0, {"a": None, "b": "elm"}))
            for number, cut in enumerate(cuts):
                bed.play(*without_truncates(cut))
                bed.project.step(*(["house"] if number % 2 else []))
            bed.project.step()
            self.holds(bed)
        self.broker.close()

    def test_so_many_messages_a_step_at_most(self) -> None:
        bed = self.bed(load="at_most = 6\n")
        bed.play(*without_truncates(story(3, 4, 30)))
        made = bed.project.step("house", until_done=True)
        self.assertGreater(len(made), 2)
        self.assertEqual([one.more for one in made], [True] * (len(made) - 1) + [False])
        bed.play(*without_truncates(story(4, 4, 20)))
        bed.project.step(until_done=True)
        self.holds(bed)

    def test_looking_changes_nothing_and_any_offset_can_be_looked_at(self) -> None:
        bed = self.bed()
        bed.play(*without_truncates(story(1, 5, 30)))
        whole = self.looked(bed)
        self.assertEqual(bed.project.ledger("house"), [])
        bed.project.step("house")
        again = self.looked(bed, after="start")
        self.assertEqual(whole, again)
        self.assertEqual(self.looked(bed), [])
        middle = again[len(again) // 2]["position"]
        later = self.looked(bed, after=str(middle), upto="head")
        own = [one for one in again if _partition(one["position"]) == _partition(middle)]
        rest = own[own.index(again[len(again) // 2]) + 1 :]
        self.assertEqual([one for one in later if _partition(one["position"]) == _partition(middle)], rest)
        self.assertEqual(self.looked(bed, after="1h", upto="head"), again)
        self.assertEqual(self.looked(bed, after="start", upto="1h"), [])

    def test_producers_kills_and_two_consumers(self) -> None:
        """Steps are killed, and race each other, while messages come: each is merged once."""
        bed = self.bed()
        bed.play(("insert", 0, {"a": 1, "b": "oak"}))
        ended = threading.Event()

        def produce() -> None:
            acts = without_truncates(story(2, 40, 1500))
            for start in range(0, len(acts), 25):
                bed.play(*acts[start : start + 25])
                time.sleep(0.01)
            ended.set()

        producer = threading.Thread(target=produce)
        producer.start()
        turn = 0
        while not ended.is_set() or turn < 6:
            turn += 1
            steps = [bed.child(STEP, str(bed.config)) for _ in "ab"]
            time.sleep(0.05 + 0.07 * (turn % 9))
            steps[0].kill()
            for one in steps:
                one.communicate(timeout=240)
        producer.join()
        bed.project.step()
        self.holds(bed)
        for load in ("house", "shed"):
            steps_made = bed.project.ledger(load)
            self.assertEqual([one.step for one in steps_made], list(range(1, len(steps_made) + 1)))

    def overtake(self, bed: Bed) -> None:
        """Have retention remove messages that are waiting."""
        bed.play(*(("update", key, {"a": 2, "b": "elm"}) for key in range(10)))
        self.broker.keep(4)

    def test_a_load_that_retention_overtook(self) -> None:
        bed = self.bed()
        bed.play(*(("insert", key, {"a": 1, "b": "oak"}) for key in range(10)))
        bed.project.step()
        self.overtake(bed)
        bed.play(("update", 0, {"a": 3, "b": "ash"}))
        done = bed.run("step")
        self.assertEqual(done.exit_code, 4)
        self.assertIn("retention", done.output)
        self.assertEqual({one.health for one in bed.project.status()}, {"refuses"})
        # The remedies that it names: what is left there is taken for all there is, or merged on top of what was merged before.
        self.assertIn("plainstep reload house --yes", done.output)
        held = bed.target("house")
        refused = bed.run("reload", "house")
        self.assertEqual((refused.exit_code, bed.target("house")), (4, held), refused.output)
        self.assertEqual(bed.run("reload", "house", "--yes").exit_code, 0)
        self.assertLessEqual(len(bed.target("house")), 10)
        self.assertEqual(bed.run("watermark", "shed", "--to", "start", "--yes").exit_code, 0)
        self.assertEqual(bed.run("step", "shed").exit_code, 0)
        self.assertEqual((len(bed.target("shed")), bed.target("shed")[0]), (10, bed.model.rows[0]))
        self.assertEqual({one.health for one in bed.project.status()}, {"ok"})
        self.assertIn("that are gone", str(bed.project.status("shed")[0].limitations))

    def test_a_stream_that_was_made_anew(self) -> None:
        bed = self.bed()
        bed.play(*(("insert", key, {"a": 1, "b": "oak"}) for key in range(5)))
        bed.project.step()
        before = self.broker.url
        self.broker.make_anew()
        bed.config.write_text(bed.config.read_text().replace(before, self.broker.url))
        bed.model = Model()
        bed.play(*(("insert", key, {"a": 7, "b": "elm"}) for key in range(9)))
        for outcome in bed.project.step(raise_errors=False):
            self.assertEqual(outcome.outcome, "refused")
            self.assertRegex(str(outcome.error), "made anew|retention")
            self.assertIn(f"plainstep reload {outcome.load} --yes", str(outcome.error))
            self.assertEqual(bed.run("reload", outcome.load).exit_code, 4)
            self.assertEqual(bed.run("reload", outcome.load, "--yes").exit_code, 0)
        self.holds(bed)

    def test_what_cannot_be_read_is_refused_or_quarantined_with_its_bytes(self) -> None:
        bed = self.bed()
        bed.play(*(("insert", key, {"a": 1, "b": "oak"}) for key in range(10, 20)))
        bed.broker.send((1, b"\xff\xfe not text"), (1, b"{not json"), (1, {"what": "sprouted", "after": {"k": 1}}))
        bed.play(("insert", 2, {"a": 1, "b": "oak"}))
        [outcome] = bed.project.step("house", raise_errors=False)
        self.assertEqual(outcome.outcome, "refused")
        self.assertIn("offset", str(outcome.error))
        text = bed.config.read_text()
        bed.config.write_text(text.replace('key = ["k"]\n', 'key = ["k"]\non_bad_row = "quarantine"\n'))
        bed.project.step()
        self.assertEqual(bed.target("house"), bed.model.rows)
        rows = bed.project.quarantine("house")
        self.assertEqual(len(rows), 3)
        self.assertIn("//4gbm90IHRleHQ=", "".join(row.row for _, row in rows))  # the first one's bytes, in base64
        bed.config.write_text(
            bed.config.read_text().replace('insert = ["planted"]', 'insert = ["planted", "sprouted"]')
        )
        self.assertEqual(bed.project.retry("house").merged, 1)
        self.assertIn(1, bed.target("house"))

    def test_events_arrive_in_the_order_of_their_keys(self) -> None:
        """Out of an outbox into the broker, and from there into a table: also after the broker was away, and with large ones."""
        loads = f"""
[stores.broker]
url = "{self.broker.url}"
[loads.alarm]
from = "town.tree"
into = "shed.alarm"
shape = "events"
first = "head"
deliver = "{self.broker.address()}"
[loads.alarm.rules]
any = "true"
[loads.back]
from = "broker.{self.broker.name}"
into = "house.back"
key = ["id"]
[loads.back.layout]
missing_field = "null"
columns = {{ id = "id", subject = "subject", a = "data.now.a", position = "time" }}
{self.broker.layout.replace("doc", "event")}"""
        with Town(TREE, loads=loads) as town:
            town.project.capture_on("town.tree")
            town.project.step("alarm")
            town.sql(*(f"INSERT INTO tree VALUES ({key}, 0, 'oak')" for key in range(30)))
            town.sql(*(f"UPDATE tree SET a = a + 1 WHERE k < {30 - turn}" for turn in range(5)))
            [outcome] = town.project.step("alarm")
            self.assertEqual(outcome.delivery.sent, 30 + 30 + 29 + 28 + 27 + 26, outcome.delivery)
            self.assertEqual(town.project.step("alarm")[0].outcome, "nothing")
            town.project.step("back")
            rows = town.rows("house", "back")
            self.assertEqual(len(rows), outcome.delivery.sent)
            seen: dict[str, list[int]] = {}
            for change in town.project.look("back", after="start", limit=None).to_dict()["changes"]:
                seen.setdefault(change["now"]["subject"], []).append(change["now"]["a"])
            for subject, values in seen.items():
                self.assertEqual(values, sorted(values), subject)
            text = town.config.read_text()
            host = self.broker.address().split("://")[1].split("/")[0]
            town.config.write_text(text.replace(f"{host}/", "127.0.0.1:1/"))
            town.sql("UPDATE tree SET a = 100 WHERE k = 1", "UPDATE tree SET a = 101 WHERE k = 1")
            [outcome] = town.project.step("alarm")
            self.assertEqual((outcome.outcome, outcome.delivery.sent, outcome.delivery.waiting), ("stepped", 0, 2))
            self.assertIn("nothing reaches the receiver", outcome.warnings[0])
            town.config.write_text(text)
            for _ in range(40):
                [outcome] = town.project.step("alarm")
                if not (outcome.delivery and outcome.delivery.waiting):
                    break
                time.sleep(0.25)
            town.project.step("back")
            self.assertEqual(len(town.rows("house", "back")), len(rows) + 2)

    def test_no_broker(self) -> None:
        bed = self.bed()
        bed.play(("insert", 0, {"a": 1, "b": "oak"}))
        bed.project.step()
        scheme = self.broker.url.split(":")[0]
        text = bed.config.read_text().replace(self.broker.url, f"{scheme}://127.0.0.1:1")
        bed.config.write_text(text.replace("[stores.broker]\n", "[stores.broker]\nwait = 1\n"))
        done = bed.run("step")
        self.assertEqual(done.exit_code, 1, done.output)
        self.assertRegex(done.output, "cannot be reached|gives no answer")
        self.assertNotIn("Unexpected", done.output)

    def test_a_stream_that_is_not_there(self) -> None:
        bed = self.bed()
        bed.config.write_text(bed.config.read_text().replace(self.broker.name, "nowhere"))
        done = bed.run("step")
        self.assertIn(done.exit_code, (2, 4), done.output)
        self.assertNotIn("Unexpected", done.output)
        self.assertIn("nowhere", done.output)

    def test_init_proposes_a_layout_that_is_right(self) -> None:
        bed = self.bed()
        bed.play(*without_truncates(story(3, 20, 200, rekeys=False)))
        proposed = bed.run("init", "--changes", f"broker.{self.broker.name}")
        proposal = proposed.stdout
        self.assertEqual((proposed.exit_code, proposed.stderr), (0, ""))
        self.assertNotIn("doubtful", proposal)
        self.assertNotIn("contradict", proposal)
        head = bed.config.read_text().partition("[loads.")[0]
        lines = [line for line in proposal.splitlines() if not line.startswith("guessed")]
        bed.config.write_text(head + "\n".join(lines))
        [load] = bed.project.loads
        bed.project.step()
        one = bed.project.load(load)
        rows = [row for batch in one.target.rows(one.into_table, one.source.schema()) for row in batch.to_pylist()]
        self.assertEqual({row["k"]: row for row in rows}, bed.model.rows)


def _partition(position: Any) -> str:
    return str(position).rpartition("=")[0]


class Trimmable(Laws):
    """What holds where messages can be removed when one likes."""

    def test_what_was_merged_may_go(self) -> None:
        bed = self.bed()
        bed.play(*(("insert", key, {"a": 1, "b": "oak"}) for key in range(10)))
        bed.project.step()
        for kept in (3, 0):
            self.broker.keep(kept)
            self.assertEqual([one.outcome for one in bed.project.step()], ["nothing", "nothing"])
            self.assertEqual([one.health for one in bed.project.status()], ["ok", "ok"])
        bed.play(*(("update", key, {"a": 2, "b": "elm"}) for key in range(10)))
        self.broker.keep(10)  # all that is waiting, and nothing more
        bed.project.step("house")
        self.broker.keep(0)
        bed.play(("update", 0, {"a": 3, "b": "ash"}))
        self.assertEqual([one.outcome for one in bed.project.step(raise_errors=False)], ["stepped", "refused"])
        self.assertEqual(bed.target("house"), bed.model.rows)


class ByKafka(Laws, unittest.TestCase):
    broker_of = Kafka

    def test_a_url_that_the_client_refuses(self) -> None:
        bed = self.bed()
        for said in ("ca=/nowhere.pem", "sasl=NOTHING"):
            text = bed.config.read_text()
            bed.config.write_text(text.replace(self.broker.url, f"{self.broker.url}?{said}", 1))
            done = bed.run("step", "house")
            self.assertEqual(done.exit_code, 2, done.output)
            self.assertIn("refuses what its URL says", done.output)
            bed.config.write_text(text)

    def test_a_partition_that_is_gone(self) -> None:
        bed = self.bed()
        bed.play(("insert", 1, {"a": 1, "b": "oak"}))
        bed.project.step("house")
        with duckdb.connect(str(bed.path / "house.db")) as house:
            [(token,)] = house.execute("SELECT token FROM plainstep_watermarks").fetchall()
            house.execute("UPDATE plainstep_watermarks SET token = ?", [token.replace('{"0"', '{"9":"3","0"')])
        done = bed.run("step", "house")
        self.assertEqual(done.exit_code, 4, done.output)
        self.assertIn("fewer partitions", done.output)
        self.assertEqual(bed.run("reload", "house").exit_code, 0)
        self.assertEqual(bed.target("house"), bed.model.rows)

    def overtake(self, bed: Bed) -> None:
        """A mock partition keeps some 5 MB."""
        for turn in range(9):
            bed.play(*(("update", key, {"a": turn, "b": "x" * 400_000}) for key in range(10)))


class ByNats(Trimmable, unittest.TestCase):
    broker_of = Nats

    def test_a_client_that_gave_up_is_made_anew(self) -> None:
        bed = self.bed()
        bed.play(("insert", 1, {"a": 1, "b": "oak"}))
        project: Any = bed.project
        project.step("house")
        connection = project.stores["broker"].connection
        connection.done(connection.client.close())  # as it does after some tries in vain
        bed.play(("insert", 2, {"a": 1, "b": "oak"}))
        project.step("house")
        self.assertEqual(bed.target("house"), bed.model.rows)

    def test_words_of_the_server_are_told_from_messages(self) -> None:
        bed = self.bed()
        broker: Any = self.broker
        bed.play(("insert", 1, {"a": 1, "b": "oak"}))
        for status in ("404", "409", "100", "503"):  # headers that the server uses for its own words
            body = json.dumps(envelope("insert", None, {"k": int(status), "a": 1, "b": "elm"})).encode()
            broker._done(broker.stream.publish(f"{broker.name}.x", body, headers={"Status": status}))
        bed.play(("insert", 2, {"a": 1, "b": "x" * 300_000}), ("insert", 3, {"a": 1, "b": "y" * 200_000}))
        with mock.patch.object(nats_log, "BYTES", 1 << 18):  # one is larger than what is asked for at a time
            bed.project.step("house")
        self.assertEqual(sorted(bed.target("house")), [1, 2, 3, 100, 404, 409, 503])

    def test_many_messages_are_read_beside_busy_threads(self) -> None:
        """A message that is waited for by itself has to wait for the interpreter, too, again and again."""
        bed = self.bed()
        bed.play(*(("insert", key, {"a": 1, "b": "oak"}) for key in range(2000)))
        project: Any = bed.project
        connection = project.stores["broker"].connection
        connection.wait = 3.0
        ended = threading.Event()

        def busy() -> None:
            while not ended.is_set():
                sum(range(1000))

        threads = [threading.Thread(target=busy) for _ in range(6)]
        for thread in threads:
            thread.start()
        try:
            log = nats_log.StreamLog(connection, "broker", self.broker.name)
            self.assertEqual(sum(map(len, log.read(1, 2001))), 2000)
        finally:
            ended.set()
            for thread in threads:
                thread.join()

    def test_loads_that_connect_at_once_have_one_client(self) -> None:
        def slowly() -> asyncio.AbstractEventLoop:
            time.sleep(0.05)
            return made()

        connection, made = Connection("broker", self.broker.url, 5.0), asyncio.new_event_loop
        with mock.patch.object(asyncio, "new_event_loop", side_effect=slowly) as loops, ThreadPoolExecutor(6) as pool:
            clients = set(pool.map(lambda _: connection.client, range(6)))
        self.assertEqual((loops.call_count, len(clients)), (1, 1))
        connection.close()

    def test_a_reader_that_lags_behind_or_is_ended(self) -> None:
        bed = self.bed()
        bed.play(*(("insert", key, {"a": 1, "b": "oak"}) for key in range(30)))
        project = bed.project
        self.assertTrue(project.load("house").source.schema())
        with mock.patch.object(nats_log._Reader, "next", lambda *_: []), mock.patch.object(Load, "renew"):
            [outcome] = project.step("house", raise_errors=False)
        self.assertIn("sent nothing more", str(outcome.error))
        broker: Any = self.broker
        broker._done(broker.stream.delete_msg(broker.name, 30))  # and where the last ones are gone, that is the end
        broker._done(broker.stream.delete_msg(broker.name, 29))
        bed.project.step("house")
        self.assertEqual(len(bed.target("house")), 28)

    def test_an_answer_of_others_than_a_stream_is_no_delivery(self) -> None:
        broker: Any = self.broker

        async def answered() -> list[str]:
            async def answer(message: Any) -> None:
                await message.respond(b'{"ok": true}')

            other = await nats.connect(broker.url)
            await other.subscribe("elsewhere", cb=answer)
            await other.flush()
            connection = Connection("bus", broker.url, 2.0)
            publisher = SubjectPublisher(connection, "elsewhere")
            told = await asyncio.to_thread(publisher.publish, [Outgoing("1", "a", b"{}"), Outgoing("2", "b", b"{}")])
            await asyncio.to_thread(publisher.close)
            await other.close()
            return told

        self.assertEqual(broker._done(answered()), ["what answers on elsewhere is no stream"] * 2)

    def test_a_stream_from_which_reading_takes_messages(self) -> None:
        bed = self.bed()
        broker: Any = self.broker
        for retention in ("workqueue", "interest"):
            broker._done(broker.stream.delete_stream(broker.name))
            broker._done(broker.stream.add_stream(name=broker.name, subjects=[f"{broker.name}.>"], retention=retention))
            done = bed.run("step", "house")
            self.assertEqual(done.exit_code, 4, done.output)
            self.assertIn(f"retention: {retention}", done.output)


class ByRedis(Trimmable, unittest.TestCase):
    broker_of = Redis

    def test_fields_as_the_document_and_those_that_stand_twice(self) -> None:
        broker: Any = self.broker
        broker.layout = ""
        self.addCleanup(broker.__dict__.pop, "layout", None)
        bed = self.bed('missing_field = "null"\n', 'types = { k = "INTEGER", a = "INTEGER" }\n')
        broker.client.xadd(broker.name, {"k": "1", "a": "5", "b": 'oak "x"'})
        bed.project.step("house")
        self.assertEqual(bed.target("house"), {1: {"k": 1, "a": 5, "b": 'oak "x"'}})
        broker.client.execute_command("XADD", broker.name, "*", "k", "1", "a", "6", "a", "7")
        [outcome] = bed.project.step("house", raise_errors=False)
        self.assertIn("twice", str(outcome.error))

    def test_entries_that_are_removed_at_the_last_moment(self) -> None:
        """All that was waiting goes after it was seen to be there, and before it is read."""
        bed = self.bed()
        bed.play(("insert", 1, {"a": 1, "b": "oak"}))
        bed.project.step("house")
        bed.play(("update", 1, {"a": 2, "b": "oak"}))
        whole = redis_log.StreamLog.read

        def late(log: Any, start: int, end: int, few: bool = False) -> Any:
            if not few:
                self.broker.keep(0)
            return whole(log, start, end, few)

        project = bed.project
        self.assertTrue(project.load("house").source.schema())  # the sample is read before
        with mock.patch.object(redis_log.StreamLog, "read", late), mock.patch.object(Load, "renew"):
            [outcome] = project.step("house", raise_errors=False)
        self.assertEqual(outcome.outcome, "refused", outcome)
        self.assertIn("does not hold all messages", str(outcome.error))

    def test_large_entries_in_batches_that_fit(self) -> None:
        bed = self.bed()
        bed.play(*(("insert", key, {"a": 1, "b": "x" * 100_000}) for key in range(100)))
        source: Any = bed.project.load("house").whole_source
        with mock.patch.object(redis_log, "BYTES", 1 << 20):
            read = [*source.feed.log.read(0, source.feed.log.bounds().end)]
        sizes = [sum(len(value or b"") for value in some.values) for some in read]
        self.assertGreater(sum(sizes), 10_000_000)
        self.assertLess(max(sizes), 2 << 20)
        bed.project.step("house")
        self.assertEqual(bed.target("house"), bed.model.rows)


class ByRabbit(Laws, unittest.TestCase):
    broker_of = Rabbit

    def overtake(self, bed: Bed) -> None:
        """What is kept is cut by segments, when one is full."""
        for turn in range(6):
            bed.play(*(("update", key, {"a": turn, "b": "x" * 100_000}) for key in range(10)))

    def test_a_broker_that_is_slow_to_show_its_end(self) -> None:
        """What is shown of a stream may be less than what was merged of it: that is looked at again, and not taken for a difference."""
        bed = self.bed()
        bed.play(*(("insert", key, {"a": 1, "b": "oak"}) for key in range(5)))
        bed.project.step("house")
        bounds = amqp_log.QueueLog.bounds
        told: Iterator[int] = iter(())

        def slow(log: amqp_log.QueueLog) -> Any:
            found = bounds(log)
            return replace(found, end=found.end - next(told, 0))

        with mock.patch.object(amqp_log.QueueLog, "bounds", slow):
            for turn in range(5):  # at whichever of the times that it is asked
                told = iter([0] * turn + [1])
                [result] = bed.project.check("house")
                self.assertTrue(result.ok, (turn, result))

    def test_a_connection_is_used_again_as_long_as_it_works(self) -> None:
        bed, made = self.bed(), list[Any]()
        connect = pika.BlockingConnection.__init__

        def connected(connection: Any, *words: Any) -> None:
            made.append(connection)
            connect(connection, *words)

        project = bed.project
        for turn, count in enumerate((1, 0, 1)):
            bed.play(*(("insert", 100 * turn + key, {"a": 1, "b": "oak"}) for key in range(30)))
            with mock.patch.object(pika.BlockingConnection, "__init__", connected):
                before = len(made)
                project.step("house")
            self.assertEqual(len(made) - before, count)
            if turn == 1:  # the network cuts it while nobody uses it
                made[0]._impl._transport._sock.shutdown(socket.SHUT_RDWR)
        self.assertEqual(bed.target("house"), bed.model.rows)

    def test_an_exchange_that_is_not_there(self) -> None:
        publisher = ExchangePublisher(amqp.Connection("rabbit", self.broker.url, 5.0), "nowhere")
        told = publisher.publish([Outgoing(str(number), str(number), b"{}") for number in range(3)])
        self.assertEqual(len(told), 3)
        self.assertTrue(all("NOT_FOUND" in one for one in told), told)
        publisher.close()

    def test_a_queue_whose_messages_go_when_they_are_read(self) -> None:
        bed = self.bed()
        broker: Any = self.broker
        broker.close()
        broker._on_a_channel(lambda channel: channel.queue_declare(broker.name, durable=True))
        broker.send(*((1, envelope("insert", None, {"k": key, "a": 1, "b": "oak"})) for key in range(20)))
        done = bed.run("step", "house")
        self.assertEqual(done.exit_code, 2, done.output)
        self.assertIn("Only stream queues are read", done.output)
        counts: list[int] = []
        for _ in range(50):
            broker._on_a_channel(
                lambda channel: counts.append(channel.queue_declare(broker.name, passive=True).method.message_count)
            )
            if counts[-1] == 20:
                break
            time.sleep(0.1)
        self.assertEqual(counts[-1], 20)
