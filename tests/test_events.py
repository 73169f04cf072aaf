"""Events to an HTTP endpoint and to files: at least once, in order for each key, whatever happens on the way."""

from __future__ import annotations

import json
import threading
import unittest
from collections import defaultdict
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from plainstep.loads.delivery import outbox
from tests.support import WITHOUT_SHRINKING, Town, examples

TABLE = "CREATE TABLE tree (k INTEGER PRIMARY KEY, status TEXT)"
LOAD = """
[loads.alarm]
from = "town.tree"
into = "{into}.alarm"
shape = "events"
first = "head"
tries = 3
deliver = "{deliver}"
[loads.alarm.rules]
condemned = "was.status <> 'condemned' and now.status = 'condemned'"
planted = "op = 'insert'"
"""


class Receiver:
    """A server that takes events, and fails as it is told to."""

    def __init__(self) -> None:
        self.got: list[dict[str, Any]] = []
        self.answers: dict[str, int] = {}
        outer = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_POST(self) -> None:
                body = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
                outer.types.add(self.headers["Content-Type"])
                answer = outer.answers.get(body["subject"], 204)
                if not answer:  # hang up
                    self.close_connection = True
                    return
                if answer == 204:
                    outer.got.append(body)
                self.send_response(answer)
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, *_: object) -> None:
                pass

        self.types: set[str] = set()
        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server.server_port}/trees"

    def close(self) -> None:
        self.server.shutdown()
        self.server.server_close()


class Http(unittest.TestCase):
    def setUp(self) -> None:
        self.receiver = Receiver()
        self.addCleanup(self.receiver.close)

    def subjects(self) -> list[tuple[str, str]]:
        return [(event["type"], event["subject"]) for event in self.receiver.got]

    def test_events_are_sent_once_committed_and_failed_ones_are_tried_again_then_quarantined(self) -> None:
        for into in ("house", "shed"):
            self.receiver.got.clear()
            self.receiver.answers = {"2": 503}
            with Town(TABLE, loads=LOAD.format(into=into, deliver=self.receiver.url)) as town:
                town.project.capture_on("town.tree")
                town.project.step("alarm")
                town.sql("INSERT INTO tree VALUES (1, 'young'), (2, 'young')", "UPDATE tree SET status = 'condemned'")
                town.sql("UPDATE tree SET status = 'felled' WHERE k = 1")
                [outcome] = town.project.step("alarm")
                self.assertEqual(self.subjects(), [("planted", "1"), ("condemned", "1")])
                event = self.receiver.got[1]
                self.assertEqual((event["specversion"], event["datacontenttype"]), ("1.0", "application/json"))
                self.assertEqual(event["data"]["was"], {"k": 1, "status": "young"})
                self.assertEqual(event["data"]["now"], {"k": 1, "status": "condemned"})
                self.assertEqual(self.receiver.types, {"application/cloudevents+json; charset=utf-8"})
                self.assertEqual((outcome.delivery.sent, outcome.delivery.waiting), (2, 2))
                self.assertIn("503", outcome.warnings[0])
                self.assertEqual(town.project.status("alarm")[0].unsent, 2)
                # Of a key, nothing is sent before what came first; each failure makes the rest longer.
                [again] = town.project.step("alarm")
                self.assertEqual((again.outcome, again.delivery.sent), ("nothing", 0))
                for _ in range(2):
                    self.wake(town)
                    town.project.step("alarm")
                self.assertEqual(
                    [row.reason for _, row in town.project.quarantine("alarm")],
                    ["the receiver answered 503 Service Unavailable"],
                )
                self.assertEqual(town.project.status("alarm")[0].health, "at risk")
                self.receiver.answers = {}
                result = town.run("quarantine", "alarm", "--retry")
                self.assertIn("1 event sent again", result.output)
                self.assertEqual(
                    sorted(self.subjects()),
                    sorted([("planted", "1"), ("condemned", "1"), ("planted", "2"), ("condemned", "2")]),
                )
                self.assertEqual(len({event["id"] for event in self.receiver.got}), 4)
                self.assertEqual(town.project.status("alarm")[0].health, "ok")

    def wake(self, town: Town) -> None:
        """Let every rest be over."""
        load, long_ago = town.project.load("alarm"), datetime.fromtimestamp(0, UTC)
        rows = [row for some in outbox.waiting(load) for row in some]
        outbox.amend(load, [{"id": row["id"], "try_again_at": long_ago} for row in rows])

    def test_a_receiver_that_is_not_there_rests_as_a_whole_and_quarantines_nothing(self) -> None:
        self.receiver.close()
        load = LOAD.format(into="house", deliver=self.receiver.url).replace("tries = 3", "tries = 10")
        with Town(TABLE, loads=load) as town:
            town.project.capture_on("town.tree")
            town.project.step("alarm")
            town.sql("INSERT INTO tree VALUES (1, 'young'), (2, 'young')")
            [outcome] = town.project.step("alarm")
            self.assertEqual((outcome.outcome, outcome.delivery.waiting), ("stepped", 2))
            self.assertIn("nothing reaches the receiver", outcome.warnings[0])
            for _ in range(11):  # more often than an event is tried
                self.wake(town)
                [outcome] = town.project.step("alarm")
            self.assertIn("nothing reaches the receiver", outcome.delivery.problem)
            self.assertEqual((outcome.delivery.waiting, outcome.delivery.quarantined), (2, 0))
            [again] = town.project.step("alarm")
            self.assertEqual((again.delivery.problem, again.delivery.waiting), ("", 2))  # it was not tried

    def test_where_changes_are_missing_the_way_on_is_told(self) -> None:
        with Town(TABLE, loads=LOAD.format(into="house", deliver=self.receiver.url)) as town:
            town.project.capture_on("town.tree")
            town.project.step("alarm")
            town.project.capture_off("town.tree")
            town.project.capture_on("town.tree")
            result = town.run("step", "alarm")
            self.assertEqual(result.exit_code, 4)
            self.assertIn("plainstep watermark alarm --to head", result.output)
            self.assertEqual(town.run("watermark", "alarm", "--to", "head", "--yes").exit_code, 0)
            town.sql("INSERT INTO tree VALUES (1, 'young')")
            town.project.step("alarm")
            self.assertEqual(self.subjects(), [("planted", "1")])

    def test_a_receiver_that_hangs_up_or_redirects_has_not_taken_the_event(self) -> None:
        load = LOAD.format(into="shed", deliver=self.receiver.url).replace("tries = 3", "tries = 50")
        with Town(TABLE, loads=load) as town:
            town.project.capture_on("town.tree")
            town.project.step("alarm")
            town.sql("INSERT INTO tree VALUES (1, 'young'), (2, 'young'), (3, 'young')")
            self.receiver.answers = {"1": 302, "2": 0}
            [outcome] = town.project.step("alarm")
            self.assertEqual(self.subjects(), [])
            self.assertIn("gave no answer", outcome.delivery.problem)
            for _ in range(6):  # the third is not held up by them: in the end they rest for longer than a step takes
                town.project.step("alarm")
            self.assertEqual(self.subjects(), [("planted", "3")])
            self.receiver.answers = {}
            self.wake(town)
            town.project.step("alarm")
            self.assertEqual(self.subjects()[1:], [("planted", "1"), ("planted", "2")])

    @given(st.lists(st.tuples(st.sampled_from("123"), st.sampled_from([204, 503, 0])), max_size=12), st.booleans())
    @settings(max_examples=examples(6), deadline=None, phases=WITHOUT_SHRINKING)
    def test_every_event_arrives_and_those_of_a_key_in_order(self, failures: list[Any], split: bool) -> None:
        """Whatever the receiver answers: repeats discarded by id, each key's events are there in their order."""
        self.receiver.got.clear()
        load = LOAD.format(into=("house", "shed")[split], deliver=self.receiver.url).replace("tries = 3", "tries = 50")
        with Town(TABLE, loads=load) as town, mock.patch("plainstep.loads.delivery.outbox.AT_ONCE", 3):
            town.project.capture_on("town.tree")
            town.project.step("alarm")
            for key, answer in failures:
                self.receiver.answers = {key: answer}
                town.sql(f"INSERT OR REPLACE INTO tree VALUES ({key}, 'young')")
                town.sql(f"UPDATE tree SET status = 'condemned' WHERE k = {key}")
                town.project.step("alarm")
                if split:
                    self.wake(town)
            self.receiver.answers = {}
            self.wake(town)
            town.project.step("alarm")
            arrived: dict[str, list[str]] = defaultdict(list)
            for event in {event["id"]: event for event in self.receiver.got}.values():
                arrived[event["subject"]].append(event["type"])
            times = {key: [one for one, _ in failures].count(key) for key in "123"}
            self.assertEqual(
                dict(arrived), {key: ["planted", "condemned"] * count for key, count in times.items() if count}
            )


class Files(unittest.TestCase):
    def test_events_in_files_and_again_after_a_crash_before_they_were_crossed_off(self) -> None:
        with Town(TABLE, loads=LOAD.format(into="house", deliver="file:///out")) as town:
            town.project.capture_on("town.tree")
            town.project.step("alarm")
            town.sql("INSERT INTO tree VALUES (1, 'young'), (2, 'young')")
            dies = "import plainstep, os; from plainstep.loads.delivery import outbox; outbox.note = lambda *a: os._exit(9); plainstep.load_project('plainstep.toml').step('alarm')"
            child = town.child(dies)
            child.communicate(timeout=240)
            self.assertEqual(child.returncode, 9)
            town.sql("UPDATE tree SET status = 'condemned' WHERE k = 1")
            town.project.step("alarm")
            files = sorted((town.path / "out").iterdir())
            events = [json.loads(line) for file in files for line in file.read_text().splitlines()]
            found = [(event["type"], event["subject"]) for event in events]
            self.assertEqual(found, [("planted", "1"), ("planted", "2"), ("condemned", "1")])


if __name__ == "__main__":
    unittest.main()
