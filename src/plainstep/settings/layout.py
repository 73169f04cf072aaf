"""What ``[loads.NAME.layout]`` may say."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from plainstep.core.sizes import size_of
from plainstep.settings.fields import Codes, Names, length_of_time
from plainstep.sql.parameters import named

Encoding = Literal[
    "base64", "hex", "decimal_bytes", "days", "seconds", "milliseconds", "microseconds", "nanoseconds", "tagged"
]


class TimesConfig(BaseModel):
    """A table that maps positions to times."""

    model_config = ConfigDict(extra="forbid")

    table: str = Field(description="The table, in the store that is read.")
    position: str = Field(description="Its column that holds positions: those of the layout's first position column.")
    time: str = Field(description="Its column that holds times.")


class CsvConfig(BaseModel):
    """How CSV files are written, where not as usual."""

    model_config = ConfigDict(extra="forbid")

    separator: str = Field(default="", description="What stands between values; default: a comma, in .tsv a tab.")
    header: Names = Field(default=[], description="The columns' names, where files have no header.")
    nulls: Names = Field(default=[""], description="The words that stand for null where they are not in quotes.")
    charset: str = Field(default="", description="How text is written, where not in UTF-8, as in latin-1 or cp1252.")

    @field_validator("separator")
    @classmethod
    def _is_one_character(cls, value: str) -> str:
        if value and (len(value) != 1 or not value.isascii() or value in '"\r\n'):
            raise ValueError("it is not one character of ASCII that could stand between values")
        return value

    @field_validator("charset")
    @classmethod
    def _is_a_charset(cls, name: str) -> str:
        try:
            plain = '\n",;'.encode(name or "utf-8") == b'\n",;'
        except LookupError:
            raise ValueError("it is not the name of a charset: write one as in latin-1") from None
        if not plain:
            raise ValueError("its line ends are not those of ASCII, so lines could not be told apart")
        return name

    @field_validator("header")
    @classmethod
    def _are_different(cls, names: list[str]) -> list[str]:
        if len(set(names)) < len(names):
            raise ValueError("a name stands there twice")
        return names


class PagesConfig(BaseModel):
    """How a server gives its changes in pages."""

    model_config = ConfigDict(extra="forbid")

    items: str = Field(default="", description="Where the list of items lies in a page; default: a page is that list.")
    next: str = Field(
        default="",
        description="Where a page names the next one: its cursor, or its address; default: the Link header with rel=next.",
    )
    cursor: str = Field(
        default="", description="The parameter that a cursor is sent as; default: what pages name are addresses."
    )
    parameters: dict[str, str] = Field(default={}, description="Further parameters that are sent with each question.")


class MessageConfig(BaseModel):
    """How the messages of a broker are written."""

    model_config = ConfigDict(extra="forbid")

    value: Literal["json", "avro", "protobuf", "csv", "text"] = Field(
        default="json",
        description="What a message's value is: a JSON document, an Avro record, a Protobuf message (its schema in a registry), a line of "
        "CSV (its columns: csv.header), or text, which is the column 'value'.",
    )
    key: Literal["text", "json", "avro", "protobuf"] = Field(
        default="text", description="What a message's key is, where the layout names it: message.key."
    )
    value_schema: str = Field(
        default="",
        description="A file with the Avro schema of values; default: each names the one that the store's registry has.",
    )
    key_schema: str = Field(default="", description="The same for keys.")
    field: str = Field(
        default="",
        description="Redis: the field of an entry that holds its value; default: the fields are the value, as a document of texts.",
    )


class QueryConfig(BaseModel):
    """``[loads.NAME.layout.query]``: the queries that a database tells its changes by, where functions or clauses do."""

    model_config = ConfigDict(extra="forbid")

    head: str = Field(default="", description="How far the changes can be read: a query for one position.")
    oldest: str = Field(
        default="",
        description="The position after which every change is still there: a query for one position; null where changes are never removed.",
    )
    read: str = Field(description="The changes after :after (excluded) and up to :upto (included), in their order.")
    rows: str = Field(
        default="",
        description="The rows of the table itself, for the first load, reload, check and lookups, if 'rows' of the load does not name the table.",
    )
    time_of: str = Field(default="", description="When the change at :position was made.")
    position_at: str = Field(
        default="", description="The position of the last change that was made at or before :time."
    )
    in_commit_order: bool = Field(
        default=False,
        description="Whether positions rise in the order of commits, so that no change can come at or below 'head' any more. If not, "
        "transactions that are open are waited for, where the database shows them.",
    )

    consumes: bool = Field(
        default=False,
        description="Whether reading in a transaction that is committed removes what was read. There are no positions then: 'read' alone is said, "
        "without values; and the target must be of the same store, so that both are one transaction.",
    )

    @model_validator(mode="after")
    def _takes_its_values(self) -> QueryConfig:
        for name in ("head", "oldest", "time_of", "position_at", "in_commit_order"):
            if self.consumes and getattr(self, name):
                raise ValueError(f"{name} is of positions, and what is consumed by reading has none")
            if name in ("head", "oldest") and not self.consumes and not getattr(self, name):
                raise ValueError(f"the query {name!r} is missing")
        for name, usual in PARAMETERS.items():
            sql, known = getattr(self, name), set[str]() if self.consumes else usual
            found = named(sql)
            if sql and found != known:
                wanted = " and ".join(f":{one}" for one in sorted(known)) or "no values"
                told = ", ".join(f":{one}" for one in sorted(found)) or "none"
                raise ValueError(f"the query {name!r} takes {wanted}, and this one names {told}")
        return self


# The values that each query takes.
PARAMETERS = {
    "head": set[str](),
    "oldest": set[str](),
    "read": {"after", "upto"},
    "rows": set[str](),
    "time_of": {"position"},
    "position_at": {"time"},
}


class LayoutConfig(BaseModel):
    """``[loads.NAME.layout]``: how rows that something else wrote are read as changes."""

    model_config = ConfigDict(extra="forbid")

    position: Names = Field(
        default=[],
        description="The columns that order the changes, compared one after the other; in files, default: file name and line.",
    )
    hexadecimal: Names = Field(
        default=[],
        description="Columns of 'position' that are hexadecimal numbers, or several with / : - . or a space between, as in 16/B374D848: "
        "compared number by number.",
    )
    partition: str = Field(
        default="",
        description="The column within whose values alone positions rise, such as a shard; in files, 'folder', where each folder is "
        "in an order of its own. Each partition keeps a watermark.",
    )
    operation: str = Field(
        default="",
        description="The column that tells the operation; default: every row is the latest state of its key.",
    )
    operation_sql: str = Field(
        default="",
        description="Instead of 'operation': SQL over the feed's own fields that gives the code of each row.",
    )
    only_new: Literal["", "insert", "put"] = Field(
        default="",
        description="Instead of 'operation', where old and new values are told: which of them a row has tells it. What a row "
        "with new values alone is: an insert, or a put (insert or update).",
    )
    skip: str = Field(
        default="", description="Rows to leave out before anything else: a condition in SQL over the feed's own fields."
    )
    insert: Codes = Field(default=[], description="The codes of an insert.")
    put: Codes = Field(default=[], description="The codes of a row that is inserted or updated: which, is not told.")
    update: Codes = Field(default=[], description="The codes of an update that comes as one row.")
    delete: Codes = Field(default=[], description="The codes of a delete.")
    truncate: Codes = Field(default=[], description="The codes of a truncate.")
    update_was: Codes = Field(default=[], description="The codes of the old row of an update that comes as two.")
    update_now: Codes = Field(default=[], description="The codes of the new row of an update that comes as two.")
    pair: Names = Field(
        default=[],
        description="The columns that the two rows of an update share with no other row, such as a number of the change, or a "
        "version and the key; they may then come in any order. Default: the old row comes first, and their key or order pairs them.",
    )
    each: str = Field(
        default="",
        description="Where one message tells of several records: the list that holds them. Each is read as a row of its own, and "
        "its values lie below this path; a value that is not an object is the path's own.",
    )
    patch: str = Field(
        default="",
        description="Where updates come as patches of documents: the object that holds paths, with dots, and their new values. A row "
        "without it carries the whole document that lies at 'now'.",
    )
    removed: str = Field(
        default="", description="Where updates come as patches: the list of the paths of fields that are gone."
    )
    now: str = Field(
        default="*", description="Where new values lie: * stands for a column's name, as in new_* or doc.after.*"
    )
    was: str = Field(default="", description="Where old values lie, in the same way; default: there are none.")
    columns: list[str] | dict[str, str] = Field(
        default=[], description="The row's own columns; or names, each with the path of its value below the *."
    )
    bookkeeping: Names = Field(default=[], description="Columns that are not the row's own.")
    time: str | TimesConfig = Field(
        default="", description="The column that tells when a change was made, or a table that maps positions to times."
    )
    transaction: str = Field(default="", description="The column that tells which changes belong together.")
    sent_columns: str = Field(
        default="",
        description="The column that lists which columns a row really carries, or with * a yes or no for each, as in has_*.",
    )
    encodings: dict[str, Encoding] = Field(
        default={},
        description="How columns are written that are not written as what they are: base64 or hex (bytes), decimal_bytes (a scaled "
        "decimal as big-endian bytes, in base64 where it is text), days, seconds, milliseconds, microseconds or nanoseconds "
        "(since 1970), tagged (in an object whose one field names the type).",
    )
    missing_field: Literal["", "null", "unsent"] = Field(
        default="", description="What it means that a document lacks a field: it is null, or it was not sent."
    )
    valid_from: str = Field(
        default="",
        description="Instead of 'position', for a table whose rows are valid for a while: the column that tells from when on.",
    )
    valid_to: str = Field(
        default="",
        description="The column that tells until when a row is valid, without that moment itself; null, or a time to come: it still is.",
    )
    overlapping: Literal["refuse", "newest"] = Field(
        default="refuse",
        description="With valid_from: periods of one key that overlap are refused, or the newest one counts, as for states that expire.",
    )
    deleted: str = Field(default="", description="A column that says, with a yes or a time, that the row is deleted.")
    delete_carries: Literal["row", "key"] = Field(
        default="row", description="What a delete carries where old values are told: the whole row, or its key alone."
    )
    guessed: Names = Field(
        default=[],
        description="The settings of this layout, or 'key', that were guessed and that nobody has looked at: "
        "until their names are taken out, nothing is merged.",
    )
    settle: str = Field(
        default="60s",
        description="How long a file that ends in the middle of a row must have been left alone to be taken as it is.",
    )
    csv: CsvConfig | None = Field(
        default=None,
        description="Files: how CSV is written, where not as usual. Files whose names do not say what they are are taken for CSV, too.",
    )
    message: MessageConfig | None = Field(
        default=None, description="Brokers: how messages are written; default: values are JSON, keys text."
    )
    pages: PagesConfig | None = Field(
        default=None,
        description="Servers over HTTP: how their pages are read; default: a list each, and links to the next.",
    )
    query: QueryConfig | None = Field(
        default=None, description="With changes = 'query': the queries by which a database tells its changes."
    )
    max_row: str = Field(
        default="64MiB", description="Files: how large one row may be, unpacked (up to 1GiB). Larger ones are refused."
    )
    follow_links: bool = Field(default=False, description="Files: whether links may lead out of the store's folder.")
    lookup: bool = Field(
        default=False, description="Rows carry keys only: values are looked up in the table that 'rows' names."
    )

    @property
    def tagged_paths(self) -> set[str]:
        """Where values lie that are wrapped in objects."""
        names = self.columns if isinstance(self.columns, dict) else {}
        inner = [names.get(name, name) for name, encoding in self.encodings.items() if encoding == "tagged"]
        return {pattern.replace("*", path) for pattern in (self.now, self.was, "*") if pattern for path in inner}

    @property
    def whole_paths(self) -> set[str]:
        """The fields of documents that are read as JSON, to be taken apart later."""
        patched = [self.now.removesuffix(".*"), self.was.removesuffix(".*")] if self.patch or self.removed else []
        return {path for path in (self.each, self.patch, self.removed, *patched) if path}

    @field_validator("max_row")
    @classmethod
    def _is_size(cls, value: str) -> str:
        size_of(value)
        return value

    @field_validator("settle")
    @classmethod
    def _is_a_length_of_time(cls, value: str) -> str:
        return length_of_time(value)

    @field_validator("guessed")
    @classmethod
    def _are_settings(cls, names: list[str]) -> list[str]:
        unknown = [name for name in names if name != "key" and name not in cls.model_fields]
        if unknown:
            raise ValueError(f"{unknown[0]!r} is not a setting of a layout")
        return names
