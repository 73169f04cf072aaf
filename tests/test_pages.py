"""Feeds of JSON pages over HTTP: a document database's feed of changes, cursors, links; and what a server may do to a load."""

from __future__ import annotations

import json
import threading
import unittest
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlsplit

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.histories import histories
from tests.support import WITHOUT_SHRINKING, examples
from tests.test_streams import Bed, without_truncates

SIZE = 4
DOCUMENTS = """deleted = "deleted"
missing_field = "null"
columns = { k = "id", a = "doc.a", b = "doc.b" }
[loads.LOAD.layout.pages]
items = "results"
next = "last_seq"
cursor = "since"
parameters = { include_docs = "true", limit = "4" }
"""
CHANGES = 'operation = "what"\ninsert = ["planted"]\nupdate = ["grew"]\ndelete = ["felled"]\nwas = "before.*"\nnow = "after.*"\nmissing_field = "null"\n'
CURSORS = CHANGES + '[loads.LOAD.layout.pages]\nitems = "data.changes"\nnext = "paging.next"\ncursor = "from"\n'
LINKS = CHANGES


class Server:
    """A server with a document database, a feed with cursors and a feed with links; it can be told to fail."""

    def __init__(self) -> None:
        self.documents: dict[int, tuple[int, Any]] = {}
        self.changes: list[Any] = []
        self.asked: list[str] = []
        self.failures: list[int] = []
        self.elsewhere = self.number = 0
        self.name, self.layout, self.form = "trees", "", ""
        outer = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                outer.asked.append(self.headers.get("Authorization") or "")
                status, headers, body = outer.answer(urlsplit(self.path).path, parse_qs(urlsplit(self.path).query))
                data = body if isinstance(body, bytes) else json.dumps(body).encode()
                self.send_response(status)
                for name, value in (headers | {"Content-Length": str(len(data))}).items():
                    self.send_header(name, value)
                self.end_headers()
                self.wfile.write(data)

            def log_message(self, *_: Any) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.url = f"http://127.0.0.1:{self.server.server_port}/api"

    def send(self, *messages: tuple[Any, Any]) -> None:
        """Take changes, as a broker does."""
        for key, value in messages:
            self.number += 1
            self.changes.append(value)
            self.documents[key] = (self.number, value["after"])

    def answer(self, path: str, said: dict[str, list[str]]) -> tuple[int, dict[str, str], Any]:
        """The status, the headers and the body for a question."""
        if self.failures:
            return self.failures.pop(), {"Retry-After": "0"}, {}
        if path == "/api/trees/_changes":
            since = int(said.get("since", ["0-x"])[0].partition("-")[0])
            found = sorted((n, key, doc) for key, (n, doc) in self.documents.items() if n > since)[:SIZE]
            results = [
                {"seq": f"{n}-x", "id": key, "doc": doc} | ({} if doc else {"deleted": True}) for n, key, doc in found
            ]
            return 200, {}, {"results": results, "last_seq": f"{found[-1][0] if found else since}-x"}
        start = int((said.get("from") or said.get("page") or ["0"])[0])
        if path != "/api/trees" or start > len(self.changes):
            return 404, {}, {}
        some, more = self.changes[start : start + SIZE], start + SIZE < len(self.changes)
        if "page" in said or self.form == "links":
            host = "http://127.0.0.1:9" if self.elsewhere else self.url
            link = {"Link": f'<{host}/trees?page={start + SIZE}>; rel="next"'} if more else {}
            return 200, link, some
        return 200, {}, {"data": {"changes": some}, "paging": {"next": start + SIZE if more else None}}

    def close(self) -> None:
        """Stop it."""
        self.server.shutdown()
        self.server.server_close()


class Pages(unittest.TestCase):
    def setUp(self) -> None:
        self.server = Server()
        self.addCleanup(self.server.close)

    def bed(self, layout: str, load: str = "", path: str = "trees") -> Bed:
        self.server.name = path
        made = Bed(self.server, layout, load)  # type: ignore[arg-type]
        text = made.config.read_text()
        for name in ("house", "shed"):
            text = text.replace("[loads.LOAD.", f"[loads.{name}.", 1)
        made.config.write_text(text)
        self.addCleanup(made.__exit__, None)
        return made

    @settings(
        max_examples=examples(6), deadline=None, phases=WITHOUT_SHRINKING, suppress_health_check=list(HealthCheck)
    )
    @given(st.lists(histories, min_size=1, max_size=4), st.sampled_from(["documents", "cursors", "links"]))
    def test_truth_and_any_cut(self, cuts: list[list[tuple[str, Any, Any]]], form: str) -> None:
        self.server.close()
        self.server = Server()
        self.server.form = form
        layout, path = {
            "documents": (DOCUMENTS, "trees/_changes"),
            "cursors": (CURSORS, "trees"),
            "links": (LINKS, "trees"),
        }[form]
        # The first documents may hold nothing but nulls, which tell no type.
        bed = self.bed(layout, 'types = { k = "INTEGER", a = "BIGINT", b = "VARCHAR" }\n', path)
        bed.play(("insert", 0, {"a": 1, "b": "oak"}), ("update", 0, {"a": 2, "b": "elm"}))
        for number, cut in enumerate(cuts):
            bed.play(*without_truncates(cut))
            bed.project.step(*(["house"] if number % 2 else []))
        bed.project.step()
        for load in ("house", "shed"):
            self.assertEqual(bed.target(load), bed.model.rows, f"{form}, {load}")
        self.assertEqual([one.outcome for one in bed.project.step()], ["nothing", "nothing"])
        self.assertEqual({one.health for one in bed.project.status()}, {"ok"})
        self.assertTrue(all(one.ok for one in bed.project.check()))

    def test_deletes_that_have_not_shown_yet_are_told(self) -> None:
        bed = self.bed(DOCUMENTS, 'types = { k = "INTEGER" }\n', "trees/_changes")
        bed.play(("insert", 0, {"a": 1, "b": "oak"}), ("insert", 1, {"a": 1, "b": "oak"}))
        self.assertIn("no row that was looked at has 'deleted'", bed.project.step("house")[0].warnings[0])
        bed.play(("delete", 0, None))
        self.assertEqual(bed.project.step("house")[0].warnings, [])
        self.assertEqual(bed.target("house"), bed.model.rows)
        bed.config.write_text(bed.config.read_text().replace('deleted = "deleted"', 'deleted = "delted"'))
        self.assertIn("Did you mean 'deleted'?", bed.run("step", "house").output)

    def test_a_project_that_lasts_sees_what_comes(self) -> None:
        bed = self.bed(CURSORS)
        project = bed.project
        for turn in range(1, 8):
            bed.play(*(("insert", 10 * turn + key, {"a": turn, "b": "oak"}) for key in range(turn)))
            self.assertEqual(len(project.look("house", limit=None).to_dict()["changes"]), turn)
            self.assertEqual(project.status("house")[0].waiting, turn)
            project.step("house")
            self.assertEqual(bed.target("house"), bed.model.rows)

    def test_a_busy_server_is_asked_again_and_one_that_stays_so_is_told(self) -> None:
        bed = self.bed(CURSORS)
        bed.play(*(("insert", key, {"a": 1, "b": "oak"}) for key in range(9)))
        self.server.failures = [429, 503, 502]
        bed.project.step("house")
        self.assertEqual(bed.target("house"), bed.model.rows)
        bed.config.write_text(bed.config.read_text().replace("[stores.broker]\n", "[stores.broker]\nwait = 1\n"))
        self.server.failures = [503] * 50
        done = bed.run("step", "house")
        self.assertEqual(done.exit_code, 1, done.output)
        self.assertIn("answers 503", done.output)
        self.server.failures = []
        self.server.close()
        done = bed.run("step", "house")
        self.assertEqual(done.exit_code, 1, done.output)
        self.assertIn("gives no answer", done.output)

    def test_a_position_that_is_gone_and_its_remedy(self) -> None:
        bed = self.bed(CURSORS)
        bed.play(*(("insert", key, {"a": 1, "b": "oak"}) for key in range(10)))
        bed.project.step()
        del self.server.changes[5:]
        for outcome in bed.project.step(raise_errors=False):
            self.assertEqual(outcome.outcome, "refused")
            self.assertIn(f"plainstep reload {outcome.load}", str(outcome.error))
        self.assertEqual({one.health for one in bed.project.status()}, {"refuses"})
        for load in ("house", "shed"):
            self.assertEqual(bed.run("reload", load).exit_code, 0)
            self.assertEqual(sorted(bed.target(load)), [0, 1, 2, 3, 4])
        self.assertEqual({one.health for one in bed.project.status()}, {"ok"})

    def test_nothing_is_asked_for_elsewhere_and_tokens_stay_secret(self) -> None:
        self.server.form = "links"
        bed = self.bed(LINKS)
        bed.config.write_text(bed.config.read_text().replace("/api", "/api?token=s3cretword"))
        bed.play(*(("insert", key, {"a": 1, "b": "oak"}) for key in range(10)))
        self.server.elsewhere = 1
        done = bed.run("step", "house")
        self.assertEqual(done.exit_code, 4, done.output)
        self.assertIn("names a page elsewhere", done.output)
        self.assertNotIn("s3cretword", done.output)
        self.server.elsewhere = 0
        bed.project.step()
        self.assertEqual(bed.target("house"), bed.model.rows)
        self.assertEqual(set(self.server.asked), {"Bearer s3cretword"})

    def test_init_proposes_how_pages_are_read(self) -> None:
        for path, form, words in (
            (
                "trees/_changes",
                "documents",
                '"items" = "results", "next" = "last_seq", "cursor" = "since", "parameters" = { "include_docs" = "true" }',
            ),
            ("trees", "cursors", '"items" = "data.changes", "next" = "paging.next", "cursor" = "next"'),
            ("trees", "links", None),
        ):
            self.server.form = form
            bed = self.bed("", path=path)
            self.server.changes, self.server.documents = [], {}
            bed.play(*(("insert", key, {"a": 1, "b": "oak"}) for key in range(3)))
            done = bed.run("init", "--changes", f"broker.{path}")
            self.assertEqual(done.exit_code, 0, done.output)
            self.assertIn(words or "[loads.trees", done.output)
            self.assertNotIn("position", done.output)
            self.assertEqual("pages = " in done.output, words is not None)
            head = next((line for line in done.output.splitlines() if line.startswith("guessed")), "")
            self.assertEqual('"pages"' in head, form == "cursors", done.output)

    def test_what_is_no_page(self) -> None:
        bed = self.bed(CURSORS)
        bed.play(*(("insert", key, {"a": 1, "b": "oak"}) for key in range(9)))
        text = bed.config.read_text()
        for said, wrong, words in (
            ('items = "data.changes"', 'items = "data.nothing"', "no list at 'data.nothing'"),
            ('next = "paging.next"', 'next = "data"', "which is not a cursor"),
            ('cursor = "from"', 'cursor = "form"', "seems not to take the cursor"),
            ('"broker.trees"', '"broker.shrubs"', "There is no broker.shrubs"),
        ):
            bed.config.write_text(text.replace(said, wrong))
            done = bed.run("step", "house")
            self.assertIn(done.exit_code, (2, 4), done.output)
            self.assertIn(words, done.output)
        bed.config.write_text(text)
        self.server.answer = lambda *_: (200, {}, b"<html>busy</html>")  # type: ignore[method-assign]
        self.assertIn("is not JSON", bed.run("step", "house").output)
        self.assertEqual(bed.target("house"), {})
