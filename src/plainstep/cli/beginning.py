"""Commands to begin with: the demo, and a proposed configuration."""

from __future__ import annotations

from pathlib import Path

import click

from plainstep.cli.options import project


@click.command()
@click.argument("directory", metavar="[DIR]", default="larkmoor", type=click.Path(path_type=Path, file_okay=False))
def demo(directory: Path) -> None:
    """Build the demo data in DIR and walk through the whole job."""
    from plainstep.cli import cli
    from plainstep.demo import tour

    def run(*words: str) -> None:
        cli.main(["-c", str(directory / "plainstep.toml"), *words], prog_name="plainstep", standalone_mode=False)

    tour(directory, run)


@click.command()
@click.option(
    "--changes",
    "place",
    metavar="STORE.TABLE",
    required=True,
    help="A change table, or files, that something else fills.",
)
@click.option("--into", default="", metavar="STORE", help="The store to merge into.")
@click.option("--key", default="", metavar="COLUMN,...", help="The columns that tell rows apart, if you know them.")
@click.pass_context
def init(ctx: click.Context, place: str, into: str, key: str) -> None:
    """Look at a change table or files, and propose a commented layout for them."""
    columns = tuple(name.strip() for name in key.split(",") if name.strip())
    click.echo(project(ctx).propose(place, into, columns), nl=False)
