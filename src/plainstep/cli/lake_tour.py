"""A guided tour of a lake: a versioned mirror and an archive in Delta tables, and what follows their versions."""

from __future__ import annotations

import textwrap
from collections.abc import Callable
from pathlib import Path

import click

from plainstep.cli.tour import refuse_full, say_part, show_rows, teller, work_day
from plainstep.demo import town
from plainstep.demo.bucket import Bucket

CONFIG = """[stores.town]
url = "sqlite:///town.db"

[stores.lake]
url = "delta:///lake"

[stores.house]
url = "duckdb:///house.duckdb"

[loads.tree]                    # a mirror: each step is one commit of the table
from = "town.tree"
into = "lake.tree"

[loads.tree_archive]            # every change, for good
from = "town.tree"
into = "lake.tree_archive"
shape = "journal"
"""
FOLLOWS = """
[loads.ward_trees]              # follows the versions of the mirror
from = "lake.tree"
into = "house.ward_trees"
changes = "versions"
key = ["tree_id"]
shape = "rollup"
by = ["ward_id"]
measures = { trees = "count(*)", mean_height = "avg(height_m)" }
"""
ARCHIVE = """[stores.town]
url = "sqlite:///town.db"

[stores.bucket]
url = "s3://larkmoor/register"  # object storage; credentials come from the environment

[loads.tree_files]              # the rows as they are, and every change from then on, in files of Parquet
from = "town.tree"
into = "bucket.tree"
shape = "journal"
"""
ROLLUP = "SELECT ward_id, trees, round(mean_height, 2) AS mean_height FROM ward_trees ORDER BY ward_id"


def tour(folder: Path, run: Callable[..., None]) -> None:
    """Mirror the town's register into a lake, and follow the mirror's versions, saying what is done.

    Args:
        folder: where to put the files; it must not hold any yet.
        run: runs a command, given its words, and prints what it prints.

    Raises:
        ConfigError: the folder is not empty.
    """
    refuse_full(folder)
    shown, config = teller(run), folder / "plainstep.toml"
    town.build(folder)
    config.write_text(CONFIG, encoding="utf-8")
    say_part(
        "Larkmoor's lake",
        "The register of trees goes into a folder of Delta tables (a bucket of object storage would do as well): as a mirror, and as an archive of "
        "every change.",
    )
    click.echo(textwrap.indent(CONFIG.strip(), "  "))
    shown("capture", "on", "town.tree")
    say_part("1. The first step", "One commit for each table: rows, watermark and ledger row are in it, or nothing is.")
    shown("step")
    say_part("2. A Monday in the register", "The town works on:")
    work_day(folder, town.MONDAY)
    shown("step")
    _show_files(folder)
    say_part(
        "3. Who follows the lake",
        "The mirror is a source, too: a position is a version, and its changes are what that version did.",
    )
    with config.open("a", encoding="utf-8") as out:
        out.write(FOLLOWS)
    click.echo(textwrap.indent(FOLLOWS.strip(), "  "))
    shown("step", "ward_trees")
    say_part("4. Tuesday and Wednesday", "Two days, and a version of each:")
    for day in (town.TUESDAY, town.WEDNESDAY):
        work_day(folder, day)
        run("step", "tree", "tree_archive")
    shown("look", "ward_trees", "--after", "1")
    shown("step", "ward_trees")
    say_part("5. What became of it", "Trees by ward, counted from the lake's versions:")
    show_rows(folder, ROLLUP)
    shown("check")
    shown("ledger", "tree")
    _archive(folder, shown)


def _archive(folder: Path, shown: Callable[..., None]) -> None:
    """The same changes into object storage."""
    say_part(
        "6. An archive in a bucket",
        "Object storage takes the changes as files, and a step is one conditional write there. (This bucket lives as long as the tour.)",
    )
    (folder / "archive.toml").write_text(ARCHIVE, encoding="utf-8")
    click.echo(textwrap.indent(ARCHIVE.strip(), "  "))
    bucket = Bucket()
    with bucket.reached():
        shown("step", config="archive.toml")
        click.echo("\nThursday:")
        work_day(folder, town.THURSDAY)
        shown("step", config="archive.toml")
        click.echo("\nThe bucket:")
        for name in sorted(bucket.files):
            click.echo(f"  {name}")
        shown("check", config="archive.toml")


def _show_files(folder: Path) -> None:
    """The files of the mirror."""
    click.echo("\nThe mirror's folder:")
    table = folder / "lake" / "tree"
    for file in sorted(one for one in table.rglob("*") if one.is_file()):
        click.echo(f"  {file.relative_to(folder)}")
