"""The command line: parse, call, print. What is done is done by ``plainstep.project.Project``."""

from __future__ import annotations

import platform
import sys
import traceback
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import click

import plainstep
from plainstep.cli.commands import capture as capturing
from plainstep.cli.commands import operating
from plainstep.cli.commands import reading as looking
from plainstep.cli.commands import setup as beginning
from plainstep.cli.console import DEFAULT_CONFIG
from plainstep.cli.options import complain, interrupted, unexpected
from plainstep.errors import PlainStepError
from plainstep.redaction import redacted

# Commands that had another name.
RENAMED = {"pace": "run", "aside": "quarantine", "mark": "watermark"}


class Commands(click.Group):
    """A group that tells our errors in three lines, without a traceback."""

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        """A command; one that was renamed is told by its new name."""
        if name in RENAMED:
            ctx.fail(f"plainstep {name} was renamed to plainstep {RENAMED[name]}.")
        return super().get_command(ctx, name)

    def invoke(self, ctx: click.Context) -> Any:
        """Run a command, and turn errors into messages and exit statuses."""
        began = datetime.now(UTC)
        try:
            return super().invoke(ctx)
        except PlainStepError as error:
            _show_where(ctx)
            complain(error)
            ctx.exit(error.exit_status)
        except (click.ClickException, click.exceptions.Exit, click.Abort):
            raise
        except KeyboardInterrupt:
            complain(interrupted(ctx, began))
            ctx.exit(130)
        except BrokenPipeError:
            sys.stderr.close()  # the reader of our output has had enough
            ctx.exit(0)
        except Exception as error:
            _show_where(ctx)
            complain(unexpected(error))
            ctx.exit(1)


def _show_where(ctx: click.Context) -> None:
    """With --debug, where the error came from; no password that was in a URL."""
    if ctx.params.get("debug"):
        click.echo(redacted(traceback.format_exc()), err=True)
        versions = f"plainstep {plainstep.__version__}, Python {platform.python_version()}, {platform.platform()}"
        click.echo(versions, err=True)


@click.group(cls=Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.option(
    "-c",
    "--config",
    "config",
    metavar="FILE",
    default=DEFAULT_CONFIG,
    show_default=True,
    type=click.Path(path_type=Path),
    help="The configuration.",
)
@click.option("--debug", is_flag=True, help="Show where an error came from.")
@click.version_option(package_name="plainstep", prog_name="plainstep")
@click.pass_context
def cli(ctx: click.Context, config: Path, debug: bool) -> None:
    """Incremental loads, one plain step at a time.

    Reads the changes in a window, collapses them to net changes, merges them and moves the watermark, all in one
    commit.

    Exit status: 0 done (nothing to do is done), 1 failed, 2 wrong usage or configuration, 3 check found a
    difference or status a load at risk, 4 refused to protect data.
    """
    ctx.obj = config


for command in (
    beginning.demo,
    beginning.init,
    beginning.config,
    beginning.rehearse,
    beginning.completion,
    capturing.capture,
    operating.step,
    operating.run,
    looking.look,
    looking.net,
    looking.trace,
    looking.restore,
    looking.status,
    looking.ledger,
    looking.check,
    looking.report,
    operating.watermark,
    operating.reload,
    operating.quarantine,
    operating.trim,
    operating.erase,
):
    cli.add_command(command)
