"""Catalogues of Iceberg tables: in SQLite or PostgreSQL, or behind REST."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from plainstep.deferred import deferred, pa, sqlalchemy
from plainstep.errors import ConfigError, PlainStepError, Refused, Unreachable, need
from plainstep.redaction import shown_url
from plainstep.stores.iceberg.schema import schema_of
from plainstep.stores.urls import file_of

catalogs, files, iceberg_errors = deferred("pyiceberg", "catalog", "io", "exceptions")

# What a URL may say behind its question mark.
KNOWN = ("catalog", "warehouse")


# A catalogue is made in three steps (two tables and a namespace), and at each of them another may be first.
MAKES = 4


class Catalog:
    """A catalogue.

    Args:
        name: the store's name.
        url: ``iceberg+sqlite:///FILE``, ``iceberg+postgresql://USER@HOST/DATABASE``, ``iceberg+https://HOST/PATH``; with ``?catalog=NAME``,
            where it is not called ``default``, and ``&warehouse=URL`` for tables that are made.
        base: the folder that relative paths start from.
    """

    def __init__(self, name: str, url: str, base: Path) -> None:
        self.name = name
        before, _, query = url.removeprefix("iceberg+").partition("?")
        try:
            said = dict(parse_qsl(query, keep_blank_values=True, strict_parsing=bool(query)))
        except ValueError:
            said = {query: ""}
        unknown = sorted(set(said) - set(KNOWN))
        if unknown or not urlsplit(before).scheme:
            raise ConfigError(
                f"The URL {shown_url(url)!r} says {', '.join(unknown) or 'nothing of a catalogue'}.",
                "A store of Iceberg tables has two settings behind a ?: catalog and warehouse.",
                "Write iceberg+sqlite:///catalog.db?catalog=NAME, iceberg+postgresql://USER@HOST/DATABASE or iceberg+https://HOST.",
            )
        self.file: Path | None = None
        if before.startswith("sqlite:"):
            self.file = file_of(before, base)
            before = f"sqlite:///{self.file.absolute()}"
        kind = "rest" if before.startswith("http") else "sql"
        self._shown = shown_url(before)
        self._said = {
            "type": kind, "uri": before.replace("postgresql://", "postgresql+psycopg://", 1), "init_catalog_tables": "false",
        }  # fmt: skip
        self._called = said.get("catalog", "default")
        self.place = f"{self._shown}?catalog={self._called}"  # a database may hold several
        if "warehouse" in said:
            self._said["warehouse"] = (
                said["warehouse"] if ":" in said["warehouse"] else (base / said["warehouse"]).absolute().as_uri()
            )
        self._opened: Any = None
        need("pyiceberg", "iceberg", f"{self.name} is a catalogue of Iceberg tables")

    def __getstate__(self) -> dict[str, Any]:
        """Another process opens it for itself."""
        return self.__dict__ | {"_opened": None}

    @property
    def opened(self) -> Any:
        """The catalogue, as the library has it.

        Raises:
            Refused: it is a file that is not there.
            Unreachable: it gives no answer.
        """
        if self._opened is None:
            if self.file is not None and not self.file.is_file():
                raise Refused(f"There is no catalogue {self.file}.", "", f"Fix the url of the store {self.name}.")
            self._opened = self._asked(lambda: catalogs.load_catalog(self._called, **self._said, **self.storage))
        return self._opened

    @property
    def storage(self) -> dict[str, str]:
        """What the environment says of object storage, in the words of the library."""
        told = {"s3.endpoint": "AWS_ENDPOINT_URL", "s3.region": "AWS_REGION"}
        return {name: os.environ[one] for name, one in told.items() if one in os.environ}

    @property
    def is_made(self) -> bool:
        """Whether there is a catalogue: one in a database is made by whoever writes the first table."""
        if self.file is not None and not self.file.is_file():
            return False
        engine = getattr(self.opened, "engine", None)
        return engine is None or bool(self._asked(lambda: sqlalchemy.inspect(engine).has_table("iceberg_tables")))

    def make(self, space: str) -> None:
        """Make the catalogue, and a namespace in it, where they are not there. Others may do so at the same moment."""
        for left in reversed(range(MAKES)):
            try:
                self._make(space)
                return
            except Unreachable:
                self._opened = None
                if not left or not self.is_made:
                    raise

    def _make(self, space: str) -> None:
        if not self.is_made:
            said = self._said | {"init_catalog_tables": "true"}
            self._opened = self._asked(lambda: catalogs.load_catalog(self._called, **said, **self.storage))
        self._asked(lambda: self.opened.create_namespace_if_not_exists(space))

    def properties(self, space: str) -> dict[str, str]:
        """The properties of a namespace; none where there is no such."""
        try:
            return dict(self._asked(lambda: self.opened.load_namespace_properties(space))) if self.is_made else {}
        except iceberg_errors.NoSuchNamespaceError:
            return {}

    def say(self, space: str, properties: dict[str, str], removed: Collection[str]) -> None:
        """Set properties of a namespace, and remove others."""
        self.make(space)
        self._asked(lambda: self.opened.update_namespace_properties(space, set(removed), properties), "written")

    def read(self, path: str) -> bytes:
        """A file.

        Raises:
            FileNotFoundError: there is none.
        """
        with files.load_file_io(self._said | self.storage, path).new_input(path).open() as opened:
            return bytes(opened.read())

    def found(self, name: str) -> Any:
        """A table, as the library has it; None where there is none."""
        if not self.is_made:
            return None
        try:
            return self._asked(lambda: self.opened.load_table(name))
        except (iceberg_errors.NoSuchTableError, iceberg_errors.NoSuchNamespaceError):
            return None

    def table(self, name: str) -> Any:
        """A table, as the library has it.

        Raises:
            Refused: there is none.
        """
        if self.file is not None and not self.file.is_file():
            raise Refused(f"There is no catalogue {self.file}.", "", f"Fix the url of the store {self.name}.")
        found = self.found(name)
        if found is None:
            raise Refused(
                f"There is no Iceberg table {self.name}.{name}.",
                f"The catalogue is looked at under the name {self._called!r}.",
                "Check 'from' in the load, and ?catalog=NAME in the store's URL.",
            )
        return found

    def creation(self, name: str, columns: pa.Schema, properties: dict[str, str]) -> Any:
        """A transaction of the library that makes a table.

        Args:
            name: the table.
            columns: its columns.
            properties: its properties.

        Raises:
            ConfigError: where new tables are to be is not known.
        """
        if "warehouse" not in self._said and self._said["type"] == "sql":
            raise ConfigError(
                f"The URL of {self.name} does not say where new tables are to be.",
                "A catalogue in a database knows the tables, and not the place of their files.",
                f"Add warehouse=FOLDER, or warehouse=s3://BUCKET/PREFIX, to its URL (behind ? or &), or make {name} first.",
            )
        return self._asked(
            lambda: self.opened.create_table_transaction(name, schema_of(columns), properties=properties)
        )

    def committed(self, transaction: Any) -> bool:
        """Commit a transaction of the library; whether no other one came first."""
        try:
            self._asked(transaction.commit_transaction, "written")
        except (iceberg_errors.CommitFailedException, iceberg_errors.TableAlreadyExistsError):
            return False
        return True

    def tables(self) -> list[str]:
        """The tables that it knows."""
        names = self._asked(
            lambda: [one for space in self.opened.list_namespaces() for one in self.opened.list_tables(space)]
        )
        return sorted(".".join(one) for one in names)

    def _asked(self, ask: Callable[[], Any], what: str = "read") -> Any:
        """What the library answers; its errors are ours, but for those that say what is there, or came first.

        Raises:
            Unreachable: the catalogue gives no answer, or refuses.
        """
        answers = (
            iceberg_errors.NoSuchTableError, iceberg_errors.NoSuchNamespaceError, iceberg_errors.CommitFailedException,
            iceberg_errors.TableAlreadyExistsError,
        )  # fmt: skip
        try:
            return ask()
        except (PlainStepError, *answers):
            raise
        except Exception as error:  # the library has none for all of its own, and lets those of drivers through
            told = str(error).splitlines()[0] if str(error) else type(error).__name__
            raise Unreachable(
                f"The catalogue {self.name} ({self._shown}) cannot be {what}: {told[:200]}.",
                "Nothing was merged."
                if what == "read"
                else "Whether the step was made is not known; the next one goes on from what is there.",
                "Check the store's URL and what it says of the catalogue, credentials in the environment, and the network.",
            ) from error
