"""What ``[loads.NAME]`` may say."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from msgspec import field

from plainstep.settings import checks
from plainstep.settings.fields import Count, Names, Settings, WrongSetting, one_or_several, setting
from plainstep.settings.layout import LayoutConfig


class LoadConfig(Settings):
    """``[loads.NAME]``: from one source table into one target table."""

    source: Annotated[str, setting("STORE.TABLE to read changes of.")] = field(name="from")
    into: Annotated[str, setting("STORE.TABLE to merge into; made when it is not there.")]
    key: Annotated[Names, setting("The columns that tell rows apart; default: the captured key.")] = []
    changes: Annotated[
        Literal["capture", "log", "versions", "table", "query", "column", "diff"],
        setting(
            "How changes are read: from Plain Step's own capture, the server's log, the versions of a table, a change table or files that "
            "something else fills, queries, a column that grows, or by comparing. Default: query or table where there is a layout."
        ),
    ] = "capture"
    rows: Annotated[
        str,
        setting(
            "STORE.TABLE that the changes are of, if it can be read: for the first load, reload, check and lookups."
        ),
    ] = ""
    layout: Annotated[LayoutConfig | None, setting("How the rows of 'from' are read as changes.")] = None
    column: Annotated[Names, setting("With changes = 'column': the columns that grow with every change.")] = []
    overlap: Annotated[
        str | int,
        setting(
            "How far behind the watermark rows are read again, for those that are committed late: 10m, or a number."
        ),
    ] = ""
    at_most: Annotated[
        Count | None,
        setting(
            "How many changes a step reads, or a few more, so that no transaction is split; the next step goes on from there. "
            "Default: all that are waiting.",
        ),
    ] = None
    engine: Annotated[
        Literal["", "local", "spark"],
        setting("What steps it: this process, or a Spark cluster. Default: as [engine] says."),
    ] = ""
    on_bad_row: Annotated[
        Literal["refuse", "quarantine"],
        setting("What is done with rows that contradict the layout: refuse them, or quarantine them."),
    ] = "refuse"
    on_bad_value: Annotated[
        Literal["refuse", "round", "null", "quarantine"],
        setting(
            "From SQLite: what is done with a value that does not fit its column's declared type: refuse it, round "
            "it if it is a number with too many decimals, take it as null, or quarantine its row. Keys are always refused."
        ),
    ] = "refuse"
    first: Annotated[
        Literal["snapshot", "start", "head"],
        setting(
            "The first step: the whole table, every change since capture began, or only what comes next. "
            "Default: start for a feed whose table cannot be read."
        ),
    ] = "snapshot"
    shape: Annotated[
        Literal["mirror", "history", "journal", "rollup", "events"],
        setting(
            "What the target is: a copy, a row for each version of each key, every change, measures of groups, or messages."
        ),
    ] = "mirror"
    deletes: Annotated[
        Literal["drop", "flag", "ignore"],
        setting(
            "mirror: what a delete does to the row at the target: it goes, gets the time of its removal, or stays."
        ),
    ] = "drop"
    operations: Annotated[
        Annotated[list[Literal["insert", "update", "delete"]], one_or_several(str)],
        setting("mirror, journal: which operations are merged; others are left out."),
    ] = field(default_factory=lambda: ["insert", "update", "delete"])
    stamp: Annotated[bool, setting("mirror: whether each row tells when and by which step it was last written.")] = (
        False
    )
    grain: Annotated[
        Literal["", "net", "change"],
        setting(
            "history, journal, events: of net changes, or of every change. Default: history of net changes, "
            "journal and events of every change."
        ),
    ] = ""
    watch: Annotated[Names, setting("history: the columns whose changes make a new version. Default: all.")] = []
    by: Annotated[
        Names | dict[str, str], setting("rollup: what makes a group: columns, or names, each with SQL over the row.")
    ] = []
    measures: Annotated[
        dict[str, str],
        setting("rollup: its measures: count(*), count(x), count(distinct x), sum(x), avg(x), min(x), max(x)."),
    ] = {}
    old_values: Annotated[
        str, setting("rollup: the load whose mirror has old values, where the feed does not tell them.")
    ] = ""
    rules: Annotated[
        dict[str, str],
        setting("events: for each type of event, a condition in SQL on was and now; empty for every change."),
    ] = {}
    deliver: Annotated[
        str,
        setting(
            "events: where they are sent: http(s)://HOST/PATH, or file:///FOLDER for JSON Lines; ${NAME} takes a value from "
            "the environment."
        ),
    ] = ""
    tries: Annotated[Count, setting("events: after how many failed deliveries an event is quarantined.")] = 10
    partition: Annotated[
        Names, setting("journal into files: what its folders are by: load, date, or columns of the journal.")
    ] = []
    partition_zone: Annotated[
        str,
        setting(
            "journal into files: the time zone whose days the partition 'date' means, as in Europe/Oslo.", checks.zone
        ),
    ] = "UTC"
    format: Annotated[Literal["parquet", "jsonl", "csv"], setting("journal into files: their format.")] = "parquet"
    where: Annotated[str, setting("Which rows are taken: a condition in SQL over the row.")] = ""
    columns: Annotated[
        list[str] | dict[str, str],
        setting("Which columns are taken; or new names, each with the column's own. Default: all."),
    ] = []
    derive: Annotated[dict[str, str], setting("Further columns, each as SQL over the row.")] = {}
    drift: Annotated[
        Literal["add", "ignore", "refuse"],
        setting(
            "What happens when the source's columns change: new ones and wider types are carried, left out, or refused."
        ),
    ] = "add"
    strict: Annotated[
        bool | None,
        setting(
            "Refuse every contradiction, or none and count them. Default: none of our own capture; from others, "
            "more than one change in ten."
        ),
    ] = None
    types: Annotated[
        dict[str, str], setting("What a column holds, where its declared type does not say or is not kept to.")
    ] = {}

    @classmethod
    def implied(cls, given: dict[str, Any]) -> dict[str, Any]:
        """What follows from what is said: a layout is of a change table, and a feed without its table begins at its start."""
        data = dict(given)
        if "layout" in data:
            said = data["layout"]
            is_query = bool(said.get("query")) if isinstance(said, dict) else bool(getattr(said, "query", None))
            data.setdefault("changes", "query" if is_query else "table")
        if data.get("changes") in ("table", "query") and not data.get("rows") and not _has_rows(data.get("layout")):
            data.setdefault("first", "start")
        return data

    def check(self) -> None:
        """Look at what the settings say together.

        Raises:
            WrongSetting: they do not go together.
        """
        self._check_shape()
        self._check_queries()
        self._check_changes()

    def _check_shape(self) -> None:
        """Settings that another shape has, and combinations that cannot be."""
        for name, shapes in OF_SHAPES.items():
            if name in self.named and self.shape not in shapes:
                raise WrongSetting(
                    name, f"{name} is of the shape {' or '.join(shapes)}, and this load's is {self.shape}"
                )
        for shape, name in (("rollup", "by"), ("rollup", "measures"), ("events", "rules")):
            if self.shape == shape and not getattr(self, name):
                raise WrongSetting("shape", f"the shape {shape} needs {name!r}")

    def _check_queries(self) -> None:
        """What queries of a layout need, and what needs them."""
        query = self.layout.query if self.layout else None
        if (self.changes == "query") != bool(query):
            raise WrongSetting("changes", "changes = 'query' needs the queries of [layout.query], and these need it")
        if query and self.at_most and self.layout and not self.layout.position:
            raise WrongSetting("at_most", "at_most needs a 'position' in the layout, which tells where a part may end")
        if query and query.consumes and self.source.partition(".")[0] != self.into.partition(".")[0]:
            raise WrongSetting(
                "into",
                "what is consumed by reading must be merged into the same store, in one transaction: else a crash in between would lose it",
            )
        if query and query.consumes and self.first == "head":
            raise WrongSetting(
                "first", "what waits to be consumed is consumed: there is no 'head' after which to begin"
            )
        if query and query.consumes and (self.at_most or self.overlap):
            raise WrongSetting(
                "at_most" if self.at_most else "overlap", "what is consumed by reading is read whole, and once"
            )
        if query and query.rows and self.rows:
            raise WrongSetting("rows", "rows is said twice: it names a table, and the layout has a query for its rows")

    def _check_changes(self) -> None:
        """Settings that another way of reading changes has, or that do nothing."""
        for name, ways in OF_CHANGES.items():
            if name in self.named and self.changes not in ways:
                told = " or ".join(f'"{way}"' for way in ways)
                raise WrongSetting(
                    name, f"{name} does nothing here: it needs changes = {told}, and this load's is {self.changes!r}"
                )
        if self.changes in ("column", "diff") and self.shape not in ("mirror", "history"):
            told = f"finds changes by what the target holds, and a {self.shape} does not hold the rows"
            raise WrongSetting("changes", f"changes = {self.changes!r} {told}")
        if self.at_most and self.overlap:
            raise WrongSetting("at_most", "at_most cannot be told beside overlap: what is read again would count, too")
        if self.at_most and self.layout and self.layout.pair and not self.layout.transaction:
            raise WrongSetting(
                "at_most", "at_most could part rows that 'pair' marks as one change: name their 'transaction', too"
            )
        if not self.operations:
            raise WrongSetting("operations", "operations names none, so nothing would ever be merged")
        if "tries" in self.named and not self.deliver:
            raise WrongSetting("tries", "tries does nothing without 'deliver', which says where events are sent")
        if self.deletes == "ignore" or "delete" not in self.operations:
            self.deletes = "ignore"

    @property
    def merged_operations(self) -> set[str]:
        """Which net changes a mirror or a journal is made of: deletes may be ignored."""
        return {one for one in self.operations if one != "delete" or self.deletes != "ignore"}

    @property
    def every_change(self) -> bool:
        """Whether a shape is made of every change, as it is where nothing else is said and the changes are told."""
        return self.grain == "change" or (not self.grain and self.changes not in ("column", "diff"))

    @property
    def meaning(self) -> dict[str, Any]:
        """The settings that decide what a change means, and what the target holds of it.

        What was merged by others does not go with what comes. What only appends goes on with what comes, as far as it is
        read in the same way; a comparison compares everything anyway.
        """
        names = {"shape", "changes", "types", "column", "on_bad_value"}
        if self.shape in ("mirror", "history", "rollup"):
            names |= {name for name, shapes in OF_SHAPES.items() if self.shape in shapes} - {"grain", "old_values"}
            names |= {"where", "columns", "derive"} if self.changes != "diff" else set()
        said = {name: getattr(self, name) for name in sorted(names)}
        if self.shape == "history":
            said["grain"] = "change" if self.every_change else "net"
        if self.layout:
            said["layout"] = self.layout.as_dict(NOT_MEANING, defaults=False)
        return {name: value for name, value in said.items() if value and value != DEFAULTS.get(name)}


def _has_rows(layout: Any) -> bool:
    """Whether a layout has a query for the rows of the table."""
    query = layout.get("query") if isinstance(layout, dict) else getattr(layout, "query", None)
    return bool(query.get("rows") if isinstance(query, dict) else getattr(query, "rows", ""))


# What a layout says that does not decide what a change means.
NOT_MEANING = {
    "settle", "guessed", "follow_links", "max_row", "query.oldest", "query.rows", "query.time_of", "query.position_at",
}  # fmt: skip
# Settings that only some ways of reading changes have.
OF_CHANGES: dict[str, tuple[str, ...]] = {
    "rows": ("table", "query"),
    "layout": ("table", "query"),
    "column": ("column",),
    "overlap": ("table", "query", "column"),
    "at_most": ("capture", "log", "versions", "table", "query", "column"),
    "on_bad_row": ("table", "query"),
    "on_bad_value": ("capture",),
    "old_values": ("log", "versions", "table", "query"),
}

# What is done where nothing else is said.
DEFAULTS = {"on_bad_value": "refuse", "deletes": "drop", "operations": ["insert", "update", "delete"]}

# Settings that only some shapes have.
OF_SHAPES: dict[str, tuple[str, ...]] = {
    "deletes": ("mirror",),
    "operations": ("mirror", "journal"),
    "stamp": ("mirror",),
    "grain": ("history", "journal", "events"),
    "watch": ("history",),
    "by": ("rollup",),
    "measures": ("rollup",),
    "old_values": ("rollup",),
    "rules": ("events",),
    "deliver": ("events",),
    "tries": ("events",),
    "partition": ("journal",),
    "partition_zone": ("journal",),
    "format": ("journal",),
}
