"""What ``[loads.NAME.layout]`` may say."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import field

from plainstep.core.sizes import size_of
from plainstep.settings import checks
from plainstep.settings.fields import Codes, Names, Settings, WrongSetting, fields_of, setting
from plainstep.sql.parameters import named

Encoding = Literal[
    "base64", "hex", "decimal_bytes", "days", "seconds", "milliseconds", "microseconds", "nanoseconds", "tagged"
]


class TimesConfig(Settings):
    """A table that maps positions to times."""

    table: Annotated[str, setting("The table, in the store that is read.")]
    position: Annotated[str, setting("Its column that holds positions: those of the layout's first position column.")]
    time: Annotated[str, setting("Its column that holds times.")]


class CsvConfig(Settings):
    """How CSV files are written, where not as usual."""

    separator: Annotated[
        str, setting("What stands between values; default: a comma, in .tsv a tab.", checks.separator)
    ] = ""
    header: Annotated[Names, setting("The columns' names, where files have no header.", checks.different)] = []
    nulls: Annotated[Names, setting("The words that stand for null where they are not in quotes.")] = field(
        default_factory=lambda: [""]
    )
    charset: Annotated[
        str, setting("How text is written, where not in UTF-8, as in latin-1 or cp1252.", checks.charset)
    ] = ""


class PagesConfig(Settings):
    """How a server gives its changes in pages."""

    items: Annotated[str, setting("Where the list of items lies in a page; default: a page is that list.")] = ""
    next: Annotated[
        str,
        setting("Where a page names the next one: its cursor, or its address; default: the Link header with rel=next."),
    ] = ""
    cursor: Annotated[
        str, setting("The parameter that a cursor is sent as; default: what pages name are addresses.")
    ] = ""
    parameters: Annotated[dict[str, str], setting("Further parameters that are sent with each question.")] = {}


class MessageConfig(Settings):
    """How the messages of a broker are written."""

    value: Annotated[
        Literal["json", "avro", "protobuf", "csv", "text"],
        setting(
            "What a message's value is: a JSON document, an Avro record, a Protobuf message (its schema in a registry), a line of "
            "CSV (its columns: csv.header), or text, which is the column 'value'."
        ),
    ] = "json"
    key: Annotated[
        Literal["text", "json", "avro", "protobuf"],
        setting("What a message's key is, where the layout names it: message.key."),
    ] = "text"
    value_schema: Annotated[
        str,
        setting("A file with the Avro schema of values; default: each names the one that the store's registry has."),
    ] = ""
    key_schema: Annotated[str, setting("The same for keys.")] = ""
    field: Annotated[
        str,
        setting(
            "Redis: the field of an entry that holds its value; default: the fields are the value, as a document of texts."
        ),
    ] = ""


class QueryConfig(Settings, kw_only=True):
    """``[loads.NAME.layout.query]``: the queries that a database tells its changes by, where functions or clauses do."""

    head: Annotated[str, setting("How far the changes can be read: a query for one position.")] = ""
    oldest: Annotated[
        str,
        setting(
            "The position after which every change is still there: a query for one position; null where changes are never removed."
        ),
    ] = ""
    read: Annotated[str, setting("The changes after :after (excluded) and up to :upto (included), in their order.")]
    rows: Annotated[
        str,
        setting(
            "The rows of the table itself, for the first load, reload, check and lookups, if 'rows' of the load does not name the table."
        ),
    ] = ""
    time_of: Annotated[str, setting("When the change at :position was made.")] = ""
    position_at: Annotated[str, setting("The position of the last change that was made at or before :time.")] = ""
    in_commit_order: Annotated[
        bool,
        setting(
            "Whether positions rise in the order of commits, so that no change can come at or below 'head' any more. If not, "
            "transactions that are open are waited for, where the database shows them."
        ),
    ] = False

    consumes: Annotated[
        bool,
        setting(
            "Whether reading in a transaction that is committed removes what was read. There are no positions then: 'read' alone is said, "
            "without values; and the target must be of the same store, so that both are one transaction."
        ),
    ] = False

    def check(self) -> None:
        """Look at which queries there are, and which values each takes.

        Raises:
            WrongSetting: a query is missing, too many, or takes other values.
        """
        for name in ("head", "oldest", "time_of", "position_at", "in_commit_order"):
            if self.consumes and getattr(self, name):
                raise WrongSetting(name, f"{name} is of positions, and what is consumed by reading has none")
            if name in ("head", "oldest") and not self.consumes and not getattr(self, name):
                raise WrongSetting(name, f"the query {name!r} is missing")
        for name, usual in PARAMETERS.items():
            sql, known = getattr(self, name), set[str]() if self.consumes else usual
            found = named(sql)
            if sql and found != known:
                wanted = " and ".join(f":{one}" for one in sorted(known)) or "no values"
                told = ", ".join(f":{one}" for one in sorted(found)) or "none"
                raise WrongSetting(name, f"the query {name!r} takes {wanted}, and this one names {told}")


# The values that each query takes.
PARAMETERS = {
    "head": set[str](),
    "oldest": set[str](),
    "read": {"after", "upto"},
    "rows": set[str](),
    "time_of": {"position"},
    "position_at": {"time"},
}


class LayoutConfig(Settings):
    """``[loads.NAME.layout]``: how rows that something else wrote are read as changes."""

    position: Annotated[
        Names,
        setting(
            "The columns that order the changes, compared one after the other; in files, default: file name and line."
        ),
    ] = []
    hexadecimal: Annotated[
        Names,
        setting(
            "Columns of 'position' that are hexadecimal numbers, or several with / : - . or a space between, as in 16/B374D848: "
            "compared number by number."
        ),
    ] = []
    partition: Annotated[
        str,
        setting(
            "The column within whose values alone positions rise, such as a shard; in files, 'folder', where each folder is "
            "in an order of its own. Each partition keeps a watermark."
        ),
    ] = ""
    operation: Annotated[
        str, setting("The column that tells the operation; default: every row is the latest state of its key.")
    ] = ""
    operation_sql: Annotated[
        str, setting("Instead of 'operation': SQL over the feed's own fields that gives the code of each row.")
    ] = ""
    only_new: Annotated[
        Literal["", "insert", "put"],
        setting(
            "Instead of 'operation', where old and new values are told: which of them a row has tells it. What a row "
            "with new values alone is: an insert, or a put (insert or update)."
        ),
    ] = ""
    skip: Annotated[
        str, setting("Rows to leave out before anything else: a condition in SQL over the feed's own fields.")
    ] = ""
    insert: Annotated[Codes, setting("The codes of an insert.")] = []
    put: Annotated[Codes, setting("The codes of a row that is inserted or updated: which, is not told.")] = []
    update: Annotated[Codes, setting("The codes of an update that comes as one row.")] = []
    delete: Annotated[Codes, setting("The codes of a delete.")] = []
    truncate: Annotated[Codes, setting("The codes of a truncate.")] = []
    update_was: Annotated[Codes, setting("The codes of the old row of an update that comes as two.")] = []
    update_now: Annotated[Codes, setting("The codes of the new row of an update that comes as two.")] = []
    pair: Annotated[
        Names,
        setting(
            "The columns that the two rows of an update share with no other row, such as a number of the change, or a "
            "version and the key; they may then come in any order. Default: the old row comes first, and their key or order pairs them."
        ),
    ] = []
    each: Annotated[
        str,
        setting(
            "Where one message tells of several records: the list that holds them. Each is read as a row of its own, and "
            "its values lie below this path; a value that is not an object is the path's own."
        ),
    ] = ""
    patch: Annotated[
        str,
        setting(
            "Where updates come as patches of documents: the object that holds paths, with dots, and their new values. A row "
            "without it carries the whole document that lies at 'now'."
        ),
    ] = ""
    removed: Annotated[
        str, setting("Where updates come as patches: the list of the paths of fields that are gone.")
    ] = ""
    now: Annotated[str, setting("Where new values lie: * stands for a column's name, as in new_* or doc.after.*")] = "*"
    was: Annotated[str, setting("Where old values lie, in the same way; default: there are none.")] = ""
    columns: Annotated[
        list[str] | dict[str, str],
        setting("The row's own columns; or names, each with the path of its value below the *."),
    ] = []
    bookkeeping: Annotated[Names, setting("Columns that are not the row's own.")] = []
    time: Annotated[
        str | TimesConfig,
        setting("The column that tells when a change was made, or a table that maps positions to times."),
    ] = ""
    transaction: Annotated[str, setting("The column that tells which changes belong together.")] = ""
    sent_columns: Annotated[
        str,
        setting(
            "The column that lists which columns a row really carries, or with * a yes or no for each, as in has_*."
        ),
    ] = ""
    encodings: Annotated[
        dict[str, Encoding],
        setting(
            "How columns are written that are not written as what they are: base64 or hex (bytes), decimal_bytes (a scaled "
            "decimal as big-endian bytes, in base64 where it is text), days, seconds, milliseconds, microseconds or nanoseconds "
            "(since 1970), tagged (in an object whose one field names the type)."
        ),
    ] = {}
    missing_field: Annotated[
        Literal["", "null", "unsent"],
        setting("What it means that a document lacks a field: it is null, or it was not sent."),
    ] = ""
    valid_from: Annotated[
        str,
        setting(
            "Instead of 'position', for a table whose rows are valid for a while: the column that tells from when on."
        ),
    ] = ""
    valid_to: Annotated[
        str,
        setting(
            "The column that tells until when a row is valid, without that moment itself; null, or a time to come: it still is."
        ),
    ] = ""
    overlapping: Annotated[
        Literal["refuse", "newest"],
        setting(
            "With valid_from: periods of one key that overlap are refused, or the newest one counts, as for states that expire."
        ),
    ] = "refuse"
    deleted: Annotated[str, setting("A column that says, with a yes or a time, that the row is deleted.")] = ""
    delete_carries: Annotated[
        Literal["row", "key"],
        setting("What a delete carries where old values are told: the whole row, or its key alone."),
    ] = "row"
    guessed: Annotated[
        Names,
        setting(
            "The settings of this layout, or 'key', that were guessed and that nobody has looked at: "
            "until their names are taken out, nothing is merged."
        ),
    ] = []
    settle: Annotated[
        str,
        setting(
            "How long a file that ends in the middle of a row must have been left alone to be taken as it is.",
            checks.length_of_time,
        ),
    ] = "60s"
    csv: Annotated[
        CsvConfig | None,
        setting(
            "Files: how CSV is written, where not as usual. Files whose names do not say what they are are taken for CSV, too."
        ),
    ] = None
    message: Annotated[
        MessageConfig | None, setting("Brokers: how messages are written; default: values are JSON, keys text.")
    ] = None
    pages: Annotated[
        PagesConfig | None,
        setting("Servers over HTTP: how their pages are read; default: a list each, and links to the next."),
    ] = None
    query: Annotated[
        QueryConfig | None, setting("With changes = 'query': the queries by which a database tells its changes.")
    ] = None
    max_row: Annotated[
        str, setting("Files: how large one row may be, unpacked (up to 1GiB). Larger ones are refused.", size_of)
    ] = "64MiB"
    follow_links: Annotated[bool, setting("Files: whether links may lead out of the store's folder.")] = False
    lookup: Annotated[bool, setting("Rows carry keys only: values are looked up in the table that 'rows' names.")] = (
        False
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

    def check(self) -> None:
        """Look at whether what was guessed are settings.

        Raises:
            WrongSetting: one is not.
        """
        known = {"key", *(one.name for one in fields_of(LayoutConfig))}
        for name in self.guessed:
            if name not in known:
                raise WrongSetting("guessed", f"{name!r} is not a setting of a layout")
