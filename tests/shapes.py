"""What tests of shapes share."""

from __future__ import annotations

from tests.histories import Row
from tests.support import Town


def changes_of(town: Town, load: str = "house_mirror", after: str | None = "start") -> list[Row]:
    from plainstep.display import records as rows

    found = town.project.look(load, after=after, limit=None)
    return rows.changes(found.changes, ("k",))


SHAPES = {
    "mirror": "",
    "flagged": 'deletes = "flag"\nstamp = true',
    "history": 'shape = "history"\ngrain = "change"',
    "watched": 'shape = "history"\nwatch = ["a"]',
    "journal": 'shape = "journal"',
    "nets": 'shape = "journal"\ngrain = "net"',
    "rollup": """shape = "rollup"
by = { kind = "coalesce(b, '-')" }
measures = { n = "count(*)", c = "count(a)", s = "sum(a)", m = "avg(a)", lo = "min(a)", hi = "max(a)", d = "count(distinct a)" }""",
    "events": """shape = "events"
first = "FIRST"
rules = { rose = "now.a > was.a", gone = "op = 'delete'" }""",
    "scoped": """where = "a > 1 or b = 'oak'"
columns = { id = "k", kind = "b" }
derive = { twice = "a * 2" }""",
}

KILLED = ("flagged", "history", "journal", "rollup", "events")

ARCHIVE = """
[stores.archive]
url = "file:///archive"
[loads.archive]
from = "town.tree"
into = "archive.tree"
shape = "journal"
first = "{first}"
format = "{format}"
partition = ["date", "b"]
"""
