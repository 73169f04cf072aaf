"""What a project does with captured tables: turning capture on and off, trimming what was recorded."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.core.durations import duration
from plainstep.display.results import Results
from plainstep.project.members import Members
from plainstep.stores.capabilities import HasScratch, Store, captures_of, with_capture, with_scratch
from plainstep.stores.registry import find_table

if TYPE_CHECKING:
    from datetime import timedelta

    from plainstep.loads.load import Load
    from plainstep.loads.retention import Trimmed
    from plainstep.stores.records import CaptureInfo


class CaptureCommands(Members):
    """The commands about captured tables."""

    def _table(self, place: str) -> tuple[Store, str]:
        return find_table(place, self.stores, "plainstep capture takes STORE.TABLE.")

    def rehearsed(self, place: str) -> tuple[HasScratch, str, Load | None]:
        """The store of ``STORE.TABLE``, which can copy its schema to try things out, the table, and a load that reads it."""
        store, table = find_table(place, self.stores, "plainstep rehearse takes STORE.TABLE.")
        reads = (one for one in self.loads.values() if (one.from_store, one.from_table) == (store, table))
        return with_scratch(store), table, next(reads, None)

    def read_by(self, how: str) -> list[str]:
        """The tables that loads read by our own capture, as ``STORE.TABLE``: ``capture``, or ``log``."""
        found = [load.config.source for load in self.loads.values() if load.config.changes == how]
        return list(dict.fromkeys(found))

    def capture_on(
        self, place: str, key: tuple[str, ...] | None = (), how: str = "capture", despite_row_security: bool = False
    ) -> tuple[CaptureInfo, bool]:
        """Turn capture on for ``STORE.TABLE``; say what is captured, and whether it was off before.

        Args:
            place: the table.
            key: columns that tell its rows apart; none for its primary key; None for a table that has no key, whose changes
                can be merged into journals and events only.
            how: ``capture`` by triggers, or ``log`` to follow the server's own log.
            despite_row_security: whether to do so though a policy keeps rows of the table from some roles.

        Raises:
            Refused: it cannot be captured as it is.
        """
        store, table = self._table(place)
        return with_capture(store, how).capture_on(table, key, how, despite_row_security)

    def capture_off(self, place: str, how: str = "capture", really: bool = False) -> CaptureInfo:
        """Turn capture off for ``STORE.TABLE`` and forget its changes.

        Args:
            place: the table.
            how: the way in which it is captured.
            really: whether to do it though changes wait to be merged.

        Raises:
            Refused: changes wait, and would be lost.
        """
        from plainstep.loads.retention import refuse_unmerged

        store, table = self._table(place)
        if not really:
            refuse_unmerged(store, table, how)
        return with_capture(store, how).capture_off(table, how)

    def capture_refresh(self, place: str, how: str = "capture") -> tuple[CaptureInfo, str]:
        """Bring the capture of ``STORE.TABLE`` up to the table's columns; say what was done."""
        store, table = self._table(place)
        return with_capture(store, how).capture_refresh(table, how)

    def captures(self, store: str | None = None) -> list[tuple[str, CaptureInfo]]:
        """What is captured, by store: pairs of the store's name and the capture."""
        names = [self._store(store).name] if store is not None else list(self.stores)
        return [(name, info) for name in names for info in captures_of(self.stores[name])]

    def trim(self, place: str, keep: timedelta | None = None, really: bool = False) -> Results[Trimmed]:
        """Forget captured changes that every known reader has merged.

        Args:
            place: ``STORE`` or ``STORE.TABLE``.
            keep: how long changes are kept, whoever has merged them; default: as the store's ``keep`` says.
            really: whether to do it, or only to say what would go.
        """
        from plainstep.loads import retention as trimming

        name, _, table = place.partition(".")
        store = self._store(name)
        kept = keep if keep is not None else duration(self.keeps.get(name, ""))
        return Results(trimming.trim(store, kept, table, really))

    def forget(self, store: str, reader: str) -> int:
        """Remove a reader that will never come back; return for how many tables it was registered."""
        return with_capture(self._store(store)).forget(reader)
