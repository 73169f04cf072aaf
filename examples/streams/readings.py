"""Larkmoor's tree readings: out of a topic in Avro, with a registry, into a table that holds the latest of each sensor.

python examples/streams/readings.py        # starts a broker of its own, and ends it
"""

from __future__ import annotations

import tempfile
from contextlib import closing
from pathlib import Path

import plainstep
from plainstep.demo.readings import LOAD, Readings


def main(folder: Path) -> None:
    """Merge two days of readings, and show what they came to."""
    with closing(Readings()) as readings:
        readings.monday()
        (folder / "plainstep.toml").write_text(readings.config() + LOAD)
        project = plainstep.load_project(folder / "plainstep.toml")
        [outcome] = project.step("sensor")
        print(outcome.outcome, "up to", outcome.upto)
        readings.tuesday()
        net = project.net("sensor")  # many readings of each sensor: one net change each
        print(len(net), "net changes:", net.to_arrow().column_names)
        project.step("sensor")
        [check] = project.check("sensor")
        print("equal" if check.ok else "different", check.target_rows, "sensors")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as place:
        main(Path(place))
