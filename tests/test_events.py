"""Events to an HTTP endpoint and to files: at least once, in order for each key, whatever happens on the way."""

from __future__ import annotations

import json
import threading
import unittest
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from plainstep import delivering
from tests.support import Town

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
        self.refuses: set[str] = set()
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
                outer.types.add(self.headers["Content-Type"])
                if body["subject"] in outer.refuses:
                    self.send_response(503)
                else:
                    outer.got.append(body)
                    self.send_response(204)
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

    def test_events_are_sent_once_committed_and_failed_ones_are_tried_again_then_set_aside(self) -> None:
        for into in ("house", "shed"):
            self.receiver.got.clear()
            self.receiver.refuses = {"2"}
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
                    [row.reason for _, row in town.project.aside("alarm")],
                    ["the receiver answered 503 Service Unavailable"],
                )
                self.assertEqual(town.project.status("alarm")[0].health, "at risk")
                self.receiver.refuses = set()
                result = town.run("aside", "alarm", "--back")
                self.assertIn("1 event put back", result.output)
                self.assertEqual(
                    sorted(self.subjects()),
                    sorted([("planted", "1"), ("condemned", "1"), ("planted", "2"), ("condemned", "2")]),
                )
                self.assertEqual(len({event["id"] for event in self.receiver.got}), 4)
                self.assertEqual(town.project.status("alarm")[0].health, "ok")

    def wake(self, town: Town) -> None:
        """Let every rest be over."""
        import pyarrow as pa

        load = town.project.load("alarm")
        long_ago = pa.scalar(0, pa.timestamp("us", "UTC"))
        rows = list(delivering._rows(load, "state = 'waiting'"))
        delivering.amend(
            load, pa.table({"id": [row["id"] for row in rows], "try_again_at": pa.array([long_ago] * len(rows))})
        )

    def test_a_receiver_that_is_not_there_loses_nothing(self) -> None:
        url = self.receiver.url
        self.receiver.close()
        with Town(TABLE, loads=LOAD.format(into="house", deliver=url)) as town:
            town.project.capture_on("town.tree")
            town.project.step("alarm")
            town.sql("INSERT INTO tree VALUES (1, 'young'), (2, 'young')")
            [outcome] = town.project.step("alarm")
            self.assertEqual((outcome.outcome, outcome.delivery.waiting), ("stepped", 2))
            self.assertIn("no answer from the receiver", outcome.warnings[0])


class Files(unittest.TestCase):
    def test_events_in_files_and_again_after_a_crash_before_they_were_crossed_off(self) -> None:
        with Town(TABLE, loads=LOAD.format(into="house", deliver="file:///out")) as town:
            town.project.capture_on("town.tree")
            town.project.step("alarm")
            town.sql("INSERT INTO tree VALUES (1, 'young'), (2, 'young')")
            dies = "import plainstep, os; from plainstep import delivering; delivering._write_down = lambda *a: os._exit(9); plainstep.load_project('plainstep.toml').step('alarm')"
            child = town.child(dies)
            child.communicate(timeout=60)
            self.assertEqual(child.returncode, 9)
            town.sql("UPDATE tree SET status = 'condemned' WHERE k = 1")
            town.project.step("alarm")
            files = sorted((town.path / "out").iterdir())
            events = [json.loads(line) for file in files for line in file.read_text().splitlines()]
            found = [(event["type"], event["subject"]) for event in events]
            self.assertEqual(found, [("planted", "1"), ("planted", "2"), ("condemned", "1")])


if __name__ == "__main__":
    unittest.main()
