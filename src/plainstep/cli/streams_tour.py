"""A guided tour of streams: readings out of a broker, with the real commands."""

from __future__ import annotations

import textwrap
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import click

from plainstep.cli.tour import refuse_full, say_part, show_rows, teller
from plainstep.demo.readings import LOAD, Readings

LATEST = "SELECT * FROM sensor ORDER BY sensor_id"


def tour(folder: Path, run: Callable[..., None]) -> None:
    """Start a broker, send readings into it, and merge them, saying what is done.

    Args:
        folder: where to put the files; it must not hold any yet.
        run: runs a command, given its words, and prints what it prints.

    Raises:
        ConfigError: the folder is not empty.
    """
    refuse_full(folder)
    folder.mkdir(parents=True, exist_ok=True)
    config, shown = folder / "plainstep.toml", teller(run)
    with closing(Readings()) as readings:
        readings.monday()
        config.write_text(readings.config(), encoding="utf-8")
        say_part(
            "Larkmoor's sensors",
            "Twelve sensors on street trees send their readings to a broker: a topic of four partitions, in Avro, with the schema in a "
            "registry. (Both run within this tour, on this machine, and end with it.) An envelope tells what a sensor's row was, and is.",
        )
        say_part("1. What is in the topic?", "init looks at messages, keys and schemas, and proposes how to read them.")
        shown("init", "--changes", "broker.readings")
        say_part(
            "2. A lookup of the latest", "The load: the newest reading of each sensor, in a table of the warehouse."
        )
        with config.open("a", encoding="utf-8") as out:
            out.write(LOAD)
        click.echo(textwrap.indent(LOAD.strip(), "  "))
        shown("look", "sensor", "--after", "start", "--limit", "5")
        shown("step")
        say_part(
            "3. And again", "Offsets are the watermark. They lie in the warehouse, in the same commit as the rows."
        )
        shown("step")
        shown("watermark", "sensor")
        say_part("4. Tuesday", "New firmware: from here on the schema has one column more. Nobody told us.")
        readings.tuesday()
        shown("status")
        shown("step")
        say_part("5. What became of it", "The table, and whether it is what the topic says:")
        show_rows(folder, LATEST)
        shown("check")
        shown("ledger")
