"""What stores of versioned tables have in common."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext

from plainstep.errors import ConfigError, Refused
from plainstep.stores.capabilities import BaseStore


class LakeStore(BaseStore):
    """Versioned tables.

    Attributes:
        holds: what it holds, after its name: ``holds Delta tables``.
        one: one of its tables, with an article.
    """

    methods = ("versions",)
    exclusive = False
    appends_only = False
    holds: str
    one: str

    def takes_spread_edits(self) -> bool:
        """Yes: files are written by anyone, and one commit names them."""
        return True

    def refuse_types(self, table: str, types: dict[str, str]) -> None:
        """Refuse types that a load says.

        Raises:
            ConfigError: it says some.
        """
        if types:
            raise ConfigError(
                f"A load from {self.name}.{table} says types.",
                f"{self.one} says the types of its columns itself.",
                "Leave types out.",
            )

    def moment(self, tables: Sequence[str]) -> AbstractContextManager[None]:
        """No two tables are of one moment."""
        return nullcontext()

    def lacking(self, what: str) -> Refused:
        """Why it lacks something: it tells versions."""
        return Refused(
            f"{self.name} {self.holds}, whose changes are told by their versions.",
            "",
            'Say changes = "versions" in the load.',
        )
