"""One way of capturing: what capturing by triggers and by the log have in common."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import TYPE_CHECKING, ClassVar

from plainstep.errors import PlainStepError, Refused
from plainstep.stores.postgresql import catalog
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.records import CaptureInfo

if TYPE_CHECKING:
    from plainstep.stores.postgresql.database import PostgresqlDatabase

from plainstep.stores.postgresql.capture import readers
from plainstep.stores.postgresql.capture.registry import State, registered


class CaptureMethod(ABC):
    """One way of capturing: what both ways have in common.

    Args:
        store: the database.
    """

    how: ClassVar[str]
    # What is said of a table that is not captured, and why that matters.
    absent: ClassVar[tuple[str, str]]

    def __init__(self, database: PostgresqlDatabase) -> None:
        self.database = database

    @abstractmethod
    def wrong(self, connection: Connection, state: State, table: catalog.Table) -> str:
        """What is wrong with a capture, or nothing."""

    @abstractmethod
    def fill_in(self, connection: Connection, state: State, info: CaptureInfo) -> None:
        """Tell how much is held, and between which positions."""

    def look_for_earlier(self, connection: Connection, state: State) -> None:
        """Tell whether a capture, or what it recorded, is that of an earlier release, or of columns that are gone."""
        return

    def command(self, verb: str, table: str) -> str:
        """A command for a table, as a person types it."""
        return f"plainstep capture {verb} {self.database.name}.{table}" + (" --how log" if self.how == "log" else "")

    def inspect(self, connection: Connection, table: str) -> State | None:
        """Look at one table's capture, or None if it is off.

        Raises:
            Refused: the table was renamed, or dropped and made again.
        """
        found = catalog.find(connection, table)
        if found is None:
            self._renamed(connection, table)
            return None
        states = registered(connection, self.how, found.oid)
        if not states:
            self._made_again(connection, table)
            return None
        self._judge(connection, states[0], found, table)
        return states[0]

    def trusted(self, connection: Connection, table: str) -> State:
        """A table's capture, if it is on and has missed nothing.

        Raises:
            Refused: it is off, or may have missed changes.
        """
        state = self.inspect(connection, table)
        if state is None:
            raise self.off(connection, table)
        if state.table:
            catalog.refuse_hidden_rows(connection, state.table, f"{self.database.name}.{table}")
            catalog.refuse_inherited(state.table, f"{self.database.name}.{table}")
        if state.unreadable:
            raise Refused(
                f"The changes of {self.database.name}.{table} are stored in the format of an earlier release.",
                "This release reads another format.",
                self.command("refresh", table),
            )
        if state.problem:
            raise Refused(
                f"The capture of {self.database.name}.{table} cannot be trusted: {state.problem}.",
                "Changes may have been missed or recorded out of order.",
                f"{state.remedy}, then plainstep reload LOAD",
            )
        return state

    def _judge(self, connection: Connection, state: State, found: catalog.Table, table: str) -> None:
        state.table = found
        state.problem = self.wrong(connection, state, found)
        self.look_for_earlier(connection, state)
        state.unreadable |= readers.are_anybodys(connection)
        if state.lost_partitions:
            state.problem = f"a partition of {found.name} was detached or dropped, and its rows with it"
        if state.problem or state.stale:
            state.remedy = state.remedy or self.command("refresh", table)

    def _renamed(self, connection: Connection, table: str) -> None:
        for state in registered(connection, self.how):
            now = catalog.by_number(connection, state.oid) if state.name == table else None
            if now:
                name = f"{now.schema}.{now.name}"
                raise Refused(
                    f"The table {table} of {self.database.name} was renamed to {name}.",
                    "Its capture went with it; a load that names it must follow.",
                    f'Change the load\'s "from" to {self.database.name}.{name}, then {self.command("refresh", name)}',
                )

    def _made_again(self, connection: Connection, table: str) -> None:
        if any(state.name == table for state in registered(connection, self.how)):
            raise Refused(
                f"The table {table} of {self.database.name} was dropped and made again since capture was turned on.",
                "Nothing records the new table's changes.",
                f"{self.command('off', table)}, then on again, then plainstep reload LOAD",
            )

    def whatever_became_of(self, connection: Connection, table: str) -> State:
        """A table's capture, also of a table that is gone or was made again.

        Raises:
            Refused: it is off.
        """
        found = catalog.find(connection, table)
        states = registered(connection, self.how, found.oid) if found else []
        states = states or [one for one in registered(connection, self.how) if one.name == table]
        if not states:
            raise self.off(connection, table)
        states[0].table = found if found and found.oid == states[0].oid else None
        return states[0]

    def off(self, connection: Connection, table: str) -> PlainStepError:
        """The error for a table that is not captured in this way."""
        if catalog.find(connection, table) is None:
            return catalog.missing(connection, table, self.database.name)
        what, why = self.absent
        return Refused(what.format(f"{self.database.name}.{table}"), why, self.command("on", table))

    def policies(self, table: str) -> Refused:
        """The error for a table of which policies keep rows from some roles."""
        return Refused(
            f"Policies keep rows of {self.database.name}.{table} from some roles (row-level security).",
            "What is captured holds every row, for whoever may read it.",
            f"{self.command('on', table)} --despite-row-security; grant access to the changes only to roles that may see all rows",
        )

    def list_all(self, connection: Connection, table: str = "") -> list[CaptureInfo]:
        """What is captured in this way in the database, of all tables or of one."""
        infos = []
        one = catalog.find(connection, table) if table else None
        if table and one is None:
            return []
        for state in registered(connection, self.how, one.oid if one else None):
            found = catalog.by_number(connection, state.oid)
            if found:
                self._judge(connection, state, found, state.name)
            else:
                state.problem, state.remedy = "the table is gone", self.command("off", state.name)
            infos.append(self.info(connection, state))
        return infos

    def info(self, connection: Connection, state: State) -> CaptureInfo:
        """What there is to say of a capture."""
        info = CaptureInfo(
            state.name,
            state.key,
            state.columns,
            state.since,
            state.identity,
            waiting_columns=state.waiting,
            problem=state.problem,
            remedy=state.remedy,
            how=self.how,
        )
        self.fill_in(connection, state, info)
        return info

    def told(self, connection: Connection, table: str) -> CaptureInfo:
        """What there is to say of a table's capture, which is on."""
        state = self.inspect(connection, table)
        assert state is not None
        return self.info(connection, state)
