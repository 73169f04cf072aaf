# %% [markdown]
# # Plain Step as a library
#
# The town of Larkmoor keeps a register of its street trees in SQLite; a DuckDB warehouse follows it.
# Run this file whole (`python examples/library_tour.py`), or cell by cell in an editor that knows `# %%`.

# %% The made-up town, in a folder of its own
import tempfile
from pathlib import Path

import pandas as pd

import plainstep
from plainstep.demo import town

folder = Path(tempfile.mkdtemp(prefix="larkmoor-"))
town.build(folder)
project = plainstep.load_project(folder / "plainstep.toml")

# %% Turn capture on, and load everything once
for table in ("ward", "tree", "inspection"):
    project.capture_on(f"town.{table}")
for outcome in project.step():
    print(outcome.load, outcome.outcome, outcome.edits)

# %% The town works for a day; look at what was recorded
town.work(folder, town.MONDAY)
look = project.look("tree")
print(look.counts, "of", look.total)

# %% What is left of it
net = project.net("tree")
print(net.net)
print(net.to_pandas()[["tree_id", "op", "was.height_m", "now.height_m", "changed", "count"]].to_string())

# %% Merge it; then there is nothing left to do
[outcome] = project.step("tree")
print(outcome.outcome, outcome.net, outcome.edits)
[outcome] = project.step("tree")
print(outcome.outcome)

# %% Both sides are equal
[check] = project.check("tree")
print("equal" if check.ok else "different", check.source_rows, check.target_rows)

# %% Collapsing alone works on any table of changes, wherever it came from
changes = pd.DataFrame(
    {
        "seq": [1, 2, 3, 4],
        "op": ["insert", "update", "insert", "delete"],
        "was.tree_id": [None, 7, None, 8],
        "was.height_m": [None, 2.0, None, 3.5],
        "now.tree_id": [7, 7, 8, None],
        "now.height_m": [2.0, 2.4, 3.5, None],
    }
)
print(plainstep.collapse(changes, key="tree_id").to_arrow().to_pylist())
