"""Commands to begin with: the demo, and a proposed configuration."""

from __future__ import annotations

from pathlib import Path

import click

from plainstep.cli.console import echo_json, say
from plainstep.cli.options import JSON, open_project
from plainstep.cli.progress_bar import bar
from plainstep.display.text import many
from plainstep.errors import need


@click.command()
@click.argument("directory", metavar="[DIR]", default="larkmoor", type=click.Path(path_type=Path, file_okay=False))
@click.option(
    "--streams",
    is_flag=True,
    help="Instead: readings out of a broker, in Avro with a registry (needs the extra kafka).",
)
@click.option(
    "--lake",
    is_flag=True,
    help="Instead: a versioned mirror and an archive in Delta tables, and one in a bucket (needs the extra lake).",
)
@click.pass_context
def demo(ctx: click.Context, directory: Path, streams: bool, lake: bool) -> None:
    """Build the demo data in DIR and walk through the whole job."""
    if streams and lake:
        raise click.UsageError("Say --streams or --lake, not both.")
    if lake:
        need("obstore", "lake", "The tour of the lake has Delta tables")
        from plainstep.cli.lake_tour import tour
    elif streams:
        need("confluent_kafka", "kafka", "The tour of streams has a broker")
        from plainstep.cli.streams_tour import tour
    else:
        from plainstep.cli.tour import tour

    cli = ctx.find_root().command

    def run(*words: str, config: str = "plainstep.toml") -> None:
        cli.main(["-c", str(directory / config), *words], prog_name="plainstep", standalone_mode=False)

    tour(directory, run)


@click.command()
@click.argument("urls", metavar="[SOURCE_URL TARGET_URL]", nargs=-1)
@click.option(
    "--table",
    "tables",
    multiple=True,
    metavar="TABLE",
    help="Only this table of the source; several times for several.",
)
@click.option(
    "-o",
    "--out",
    metavar="FILE",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Write the file; it must not be there.",
)
@click.option(
    "--changes",
    "place",
    metavar="STORE.TABLE",
    help="Instead: propose a load for a change table, or files, that something else fills.",
)
@click.option("--into", default="", metavar="STORE", help="With --changes: the store to merge into.")
@click.option("--key", default="", metavar="COLUMN,...", help="With --changes: the columns that tell rows apart.")
@click.pass_context
def init(
    ctx: click.Context,
    urls: tuple[str, ...],
    tables: tuple[str, ...],
    out: Path | None,
    place: str | None,
    into: str,
    key: str,
) -> None:
    """Write a first plainstep.toml, or propose a layout.

    It looks at a store's tables; or, with --changes, at a change table or files that something else fills. For example: plainstep init sqlite:///town.db duckdb:///house.duckdb -o plainstep.toml
    """
    if place is not None:
        columns = tuple(name.strip() for name in key.split(",") if name.strip())
        text = open_project(ctx).propose(place, into, columns)
    elif len(urls) == 2:
        from plainstep.init.project import beginning_of

        text = beginning_of(*urls, tables, (out or Path()).absolute().parent if out else Path.cwd())
    else:
        raise click.UsageError("Give the URLs of a source and a target, or --changes STORE.TABLE.")
    if out is None:
        click.echo(text, nl=False)
        return
    try:
        with out.open("x", encoding="utf-8") as file:
            file.write(text)
    except FileExistsError:
        raise click.UsageError(f"{out} already exists: name another file, or append to it with >> {out}.") from None
    say(f"{out} is written. Read it, then do what its first lines say.", err=True)


@click.group()
def config() -> None:
    """Check plainstep.toml without opening any store."""


@config.command("check")
@click.option("--without-environment", is_flag=True, help="Do not ask for the variables that ${NAME} names.")
@click.pass_context
def config_check(ctx: click.Context, without_environment: bool) -> None:
    """Whether the file is valid: for editors, reviews and CI.

    Settings, names, combinations and SQL are checked. Whether stores, tables and columns are there is not.
    """
    from plainstep.project_file import load_project

    project = load_project(ctx.obj, Placeholders() if without_environment else None)
    project.refuse_bad_sql()
    say(f"{ctx.obj} is valid: {many(len(project.stores), 'store')}, {many(len(project.loads), 'load')}.")


@config.command("schema")
def config_schema() -> None:
    """The JSON Schema of plainstep.toml."""
    from plainstep.settings.models import config_schema

    echo_json(config_schema())


class Placeholders(dict[str, str]):
    """An environment in which every variable has a value."""

    def __contains__(self, name: object) -> bool:
        return True

    def __missing__(self, name: str) -> str:
        return "placeholder"


@click.command()
@click.argument("place", metavar="STORE.TABLE")
@click.option(
    "--changes",
    default=2000,
    show_default=True,
    type=click.IntRange(min=1),
    metavar="N",
    help="How many statements to play.",
)
@click.option(
    "--key", default="", metavar="COLUMN,...", help="Unique columns that are never null; default: the primary key."
)
@click.option(
    "--rows",
    default=200,
    show_default=True,
    type=click.IntRange(min=0),
    metavar="N",
    help="Rows of each table that are copied, to draw values from; 0 for none.",
)
@click.option("--seed", type=int, metavar="N", help="Play the statements of an earlier rehearsal again.")
@JSON
@click.pass_context
def rehearse(
    ctx: click.Context, place: str, changes: int, key: str, rows: int, seed: int | None, as_json: bool
) -> None:
    """Try out what your triggers and constraints do to capture.

    Copies the schema beside the source, with some rows; turns capture on there; plays generated statements of every kind; steps in random windows; and says whether every row came out right. The source is only read.
    """
    from plainstep.cli.output import rehearsal as output
    from plainstep.rehearsal.rehearse import rehearse

    columns = tuple(name.strip() for name in key.split(",") if name.strip())
    with bar():
        store, table, load = open_project(ctx).rehearsed(place)
        key_of_it = columns or (tuple(load.config.key) if load else ())
        types, on_bad_value = (load.config.types, load.config.on_bad_value) if load else (None, "refuse")
        found = rehearse(store, table, changes, key_of_it, rows, seed, types, on_bad_value)
    if as_json:
        echo_json({**vars(found), "smallest": [str(act) for act in found.smallest]})
    else:
        output.told(found)
    ctx.exit({"right": 0, "wrong": 3, "refused": 4}[found.outcome])


@click.command()
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
@click.pass_context
def completion(ctx: click.Context, shell: str) -> None:
    """Print what makes a shell complete words.

    Commands, options, and the names of loads.

    For bash, in ~/.bashrc: eval "$(plainstep completion bash)"
    """
    from click.shell_completion import get_completion_class

    cli = ctx.find_root().command
    found = get_completion_class(shell)
    assert found is not None
    click.echo(found(cli, {}, "plainstep", "_PLAINSTEP_COMPLETE").source())
