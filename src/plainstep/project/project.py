"""A project: its loads and stores, and what can be done with them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.display.results import Results
from plainstep.errors import need, unknown
from plainstep.loads.load import Load, reused
from plainstep.project.capture_commands import CaptureCommands
from plainstep.stores.records import KINDS
from plainstep.stores.registry import find_table

if TYPE_CHECKING:
    from datetime import datetime, timedelta

    import pyarrow as pa

    from plainstep.core.changes.filter import Filter
    from plainstep.core.diff import Scope
    from plainstep.core.points import Point
    from plainstep.loads.check import CheckResult
    from plainstep.loads.erase import EraseResult
    from plainstep.loads.outcome import StepOutcome
    from plainstep.loads.quarantine import Retried
    from plainstep.loads.runner import Runner, Tick
    from plainstep.stores.records import LedgerEntry, QuarantinedRow
    from plainstep.views.changes import LookResult
    from plainstep.views.net import NetResult
    from plainstep.views.restore import RestoreResult
    from plainstep.views.status import LoadStatus
    from plainstep.views.trace import TraceResult


class Project(CaptureCommands):
    """Loads and stores, and everything that can be done with them.

    Whatever the command line can do, a project can; each method is one command.
    """

    def _together(self, names: tuple[str, ...]) -> list[list[Load]]:
        """The loads that are chosen, with those that step together with them."""
        found: list[list[Load]] = []
        for load in self._chosen(names):
            group = next((members for members in self.groups.values() if load in members), [load])
            if group not in found:
                found.append(group)
        return found

    def step(
        self, *names: str, raise_errors: bool = True, until_done: bool = False, jobs: int = 1
    ) -> Results[StepOutcome]:
        """One step of each load named, or of all; those of a group step together, whichever of them is named.

        Args:
            names: the loads; none for all.
            raise_errors: False to be told of errors in the outcomes only. Otherwise the first one is raised once every load
                has had its step; its ``outcomes`` are those of all loads.
            until_done: whether a load that leaves changes for its next step (``at_most``) goes on until it leaves none.
            jobs: how many loads step at once; one that reads what another writes steps after it.

        Returns:
            One outcome a step, in the order of the loads.
        """
        outcomes = Results(one for made in self.steps(*names, until_done=until_done, jobs=jobs) for one in made)
        if raise_errors:
            _raise_first(outcomes)
        return outcomes

    def steps(self, *names: str, until_done: bool = False, jobs: int = 1) -> Iterator[list[StepOutcome]]:
        """The same, one by one: as each step is made, its outcome, or the outcomes of a group. Errors are told in them."""
        from plainstep.loads.jobs import stepped

        yield from stepped(self._together(names), jobs, until_done)

    def refuse_bad_sql(self) -> None:
        """Refuse expressions in the settings of loads that are not SQL. Nothing is opened: columns are not known.

        Raises:
            ConfigError: one is not.
        """
        from plainstep.loads.shape import refuse_bad_sql

        for load in self.loads.values():
            refuse_bad_sql(load)

    def run(self, *names: str, every: timedelta, tell: Callable[[Tick], None]) -> Runner:
        """Something that keeps stepping each load named, or all of them, until it is told to stop.

        Args:
            names: the loads; none for all.
            every: the time from the end of a load's step to the beginning of its next.
            tell: is called with what every turn did.

        Returns:
            A ``Runner``: ``run()`` steps until ``stop()`` is called from another thread or a signal handler.
        """
        from plainstep.loads.runner import Runner

        return Runner(self._together(names), every, tell)

    def reload(self, name: str, incomplete: bool = False) -> StepOutcome:
        """A fresh snapshot, merged as differences.

        Args:
            name: the load.
            incomplete: whether to take what a feed still holds for all there is, where some of what was merged is gone from it.

        Raises:
            PlainStepError: it could not be made; nothing was written.
        """
        from plainstep.loads import reload

        return reload.reload(self.load(name), incomplete)

    def look(
        self,
        name: str,
        after: Point | None = None,
        upto: Point | None = None,
        limit: int | None = 100,
        skip: int = 0,
        only: Filter | None = None,
        unfiltered: bool = False,
    ) -> LookResult:
        """The raw changes of a window, oldest first; default: those not yet merged.

        Args:
            name: the load.
            after, upto: a position, an ISO 8601 time, ``start`` or ``head``; ``after`` excludes, ``upto`` includes.
            limit: how many changes to keep; None for all. Counts are always of the whole window.
            skip: how many to leave out before them.
            only: which changes to keep; None for all. See ``plainstep.Filter``.
            unfiltered: show them as the source tells them, without the load's ``where``, ``columns`` and ``derive``.
        """
        from plainstep.views import changes

        return changes.look(self._seen(name, unfiltered), after, upto, limit, skip, only)

    def _seen(self, name: str, unfiltered: bool) -> Load:
        return self.load(name).unfiltered if unfiltered else self.load(name)

    def changes(
        self,
        name: str,
        after: Point | None = None,
        upto: Point | None = None,
        only: Filter | None = None,
        unfiltered: bool = False,
    ) -> Iterator[pa.Table]:
        """The raw changes of a window as Arrow tables of one schema, however many there are; arguments as for ``look``.

        Yields:
            ``position``, ``op`` (a word), ``at`` (UTC), ``txn`` and ``by`` where they are told, ``was.*``, ``now.*`` and
            ``changed`` (list of column names).
        """
        from plainstep.views import changes

        return changes.flat_changes(self._seen(name, unfiltered), after, upto, only)

    def net(self, name: str, after: Point | None = None, upto: Point | None = None) -> NetResult:
        """The net changes of a window, and what a step would do with them; arguments as for ``look``."""
        from plainstep.views import net

        return net.net(self.load(name), after, upto)

    def trace(self, name: str, *key: str, at: Point | None = None) -> TraceResult:
        """The life of one row: its changes, the steps that merged them, and the row as it was or is.

        Args:
            name: the load.
            key: the values of its key columns, in their order, as text.
            at: a position or time: the row as it was then; default: now.
        """
        from plainstep.views import trace

        load = self.load(name)
        return trace.trace(load, key, at, self._beside(load))

    def restore(
        self,
        name: str,
        after: Point,
        upto: Point | None = None,
        only: Filter | None = None,
        over_later: bool = False,
    ) -> RestoreResult:
        """The statements that bring rows back to what they were before their updates and deletes in a window. They are not run.

        Args:
            name: the load.
            after, upto: the window; ``upto`` defaults to the head.
            only: which of the changes are undone; None for every update and delete. See ``plainstep.Filter``.
            over_later: whether rows that changed again since are brought back, too.

        Raises:
            Refused: the changes have no before images, or rows changed again since.
        """
        from plainstep.core.changes.filter import Filter
        from plainstep.views.restore import restore

        return restore(self.load(name), after, upto, only or Filter(), over_later)

    def status(self, *names: str) -> Results[LoadStatus]:
        """Where each load stands."""
        from plainstep.views import status

        return Results(status.statuses(self._chosen(names)))

    def ledger(
        self, name: str | None = None, limit: int | None = None, kind: str = "", since: datetime | None = None
    ) -> Results[LedgerEntry]:
        """The newest steps of one load, or of all, oldest first.

        Args:
            name: the load; None for all.
            limit: how many; None for all.
            kind: only those of this kind: ``changes``, ``snapshot``, ``reload``, ``repair``, ``begin``, ``retry``, ``watermark`` or ``refused``.
            since: only those made at or after this time (aware).

        Raises:
            ConfigError: there is no such kind.
        """
        from plainstep.views import ledger

        if kind and kind not in KINDS:
            raise unknown("kind of step", kind, KINDS)
        return Results(ledger.ledger([self.load(name)] if name else list(self.loads.values()), limit, kind, since))

    def check(
        self,
        *names: str,
        scope: Scope | None = None,
        repair: bool = False,
        incomplete: bool = False,
        raise_errors: bool = True,
    ) -> Results[CheckResult]:
        """Compare target with source, allowing for changes still waiting.

        Args:
            names: the loads; none for all that can be compared and have begun.
            scope: which columns, rows or share of the keys; None for everything. See ``plainstep.Scope``.
            repair: whether to merge exactly what differs.
            incomplete: whether to do so where some of what was merged is gone from the source.
            raise_errors: False to be told of errors in the results only. Otherwise the first one is raised once every load
                was compared; its ``outcomes`` are the results of all loads.
        """
        from plainstep.loads import check as checks

        chosen = [load for load in self._chosen(names) if names or not checks.incomparable(load)]
        with reused(chosen):
            begun = [load for load in chosen if names or not checks.left_out(load)]
            results = Results(checks.result_of(load, scope, repair, incomplete) for load in begun or chosen)
        if raise_errors:
            _raise_first(results)
        return results

    def propose(self, place: str, into: str = "", key: tuple[str, ...] = ()) -> str:
        """A commented load with a layout for a change table or files, as TOML.

        Args:
            place: ``STORE.TABLE``, or ``STORE.FILES``.
            into: the store to merge into; default: another one of the project.
            key: the columns that tell rows apart, if they are known.

        Raises:
            PlainStepError: there is nothing to look at.
        """
        from plainstep.init.layout import proposed

        store, table = find_table(place, self.stores, "plainstep init --changes takes STORE.TABLE.")
        target = into or next((name for name in self.stores if self.stores[name] is not store), "STORE")
        return proposed(place, store, table, target, key)

    def quarantine(self, *names: str) -> list[tuple[str, QuarantinedRow]]:
        """The rows that were quarantined, events that could not be sent among them: pairs of the load's name and the row."""
        from plainstep.loads.quarantine import rows_of

        return [(load.name, row) for load in self._chosen(names) for row in rows_of(load)]

    def retry(self, name: str) -> Retried:
        """Read a load's rows that were quarantined once more, and merge what they say; send events that were quarantined.

        Raises:
            PlainStepError: it could not be done; nothing was written.
        """
        from plainstep.loads.quarantine import retry

        return retry(self.load(name))

    def erase(self, name: str, *key: str, really: bool = False) -> EraseResult:
        """Find one row's values wherever loads of its table and the table's capture keep them, and erase them.

        Args:
            name: the load.
            key: the values of its key columns, in their order, as text.
            really: whether to do it, or only to say where they are.

        Raises:
            Refused: the row is still in its table, or changes of it wait. Nothing was erased.
        """
        from plainstep.loads import erase

        load = self.load(name)
        return erase.erase(load, key, self._beside(load), really)

    def _beside(self, load: Load) -> list[Load]:
        """The other loads of the same table."""
        place = (load.from_store.url, load.from_table)
        return [one for one in self.loads.values() if one is not load and (one.from_store.url, one.from_table) == place]

    def report(self, path: str | Path) -> None:
        """Write one self-contained HTML page on all loads: their state, their steps, their latest changes.

        Args:
            path: the file.
        """
        for library in ("jinja2", "matplotlib"):
            need(library, "report", "A report is a page with figures")
        from plainstep.export.report import page as report

        loads = [(self.load(status.load), status) for status in self.status()]
        report.write(Path(path), self.path.resolve().parent.name, loads)

    def move_watermark(self, name: str, to: Point, reason: str = "") -> LedgerEntry:
        """Move a load's watermark without merging anything; recorded in the ledger.

        Args:
            name: the load.
            to: a position, an ISO 8601 time, ``start`` or ``head``.
            reason: why, for the ledger.
        """
        from plainstep.loads import reload

        return reload.move_watermark(self.load(name), to, reason)


def _raise_first(outcomes: Sequence[StepOutcome] | Sequence[CheckResult]) -> None:
    """Raise the first error of some outcomes, which carries all of them."""
    for one in outcomes:
        if one.error:
            one.error.outcomes = outcomes
            raise one.error
