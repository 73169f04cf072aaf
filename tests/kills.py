"""Where a step in another process is killed: it kills itself, at once and for good, at that point of its own."""

from __future__ import annotations

STEP = """
import sys, plainstep
for outcome in plainstep.load_project("plainstep.toml").step(*sys.argv[1:]):
    print(outcome.outcome)
"""


# Steps when it is told to, and says in one line what came of it.
RACER = """
import sys, plainstep
project = plainstep.load_project("plainstep.toml")
for line in sys.stdin:
    try:
        print(*[one.outcome for one in project.step()], flush=True)
    except Exception as error:
        print(repr(f"{error!r}, for {error.__cause__!r}"), flush=True)
"""


# Where a child is killed: it kills itself, at once and for good, at that point of its own step.
DIE = "import os, signal\ndef die(*_, **__): os.kill(os.getpid(), signal.SIGKILL)\n"


POINTS = {
    "before reading": "import plainstep.stores.sqlite.capture.source as m; m.SqliteSource._read = die; m.SqliteSource.snapshot = die",
    "after reading": "import plainstep.loads.step as m; m.commit_of = die",
    "in the middle of applying": """
import plainstep.stores.duckdb.target as d, plainstep.stores.sqlite.target as s
for owner, name in ((d._Merge, "_insert"), (d._Merge, "_update"), (s._Merge, "_insert"), (s._Merge, "update")):
    setattr(owner, name, lambda self, *rows, done=getattr(owner, name): (done(self, *rows), die()))
""",
    "before the commit": "import plainstep.stores.ledger as m; m.entry_values = die",
    "after the commit": """
import plainstep.stores.duckdb.target as d, plainstep.stores.sqlite.target as s
for target in (d.DuckdbTarget, s.SqliteTarget):
    target.commit = lambda self, *commits, done=target.commit: (done(self, *commits), die())
""",
}
