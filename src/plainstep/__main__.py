"""``python -m plainstep`` and the ``plainstep`` command."""

from __future__ import annotations

from plainstep.cli.main import cli


def main() -> None:
    """Run the command line."""
    cli(prog_name="plainstep")


if __name__ == "__main__":
    main()
