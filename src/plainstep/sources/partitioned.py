"""A feed whose order holds within each of its partitions only: each has a position of its own.

All of them are kept as one token, and compared and set as one.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from contextlib import AbstractContextManager, contextmanager, nullcontext
from datetime import datetime
from typing import TYPE_CHECKING

from plainstep.core.arrays import flat
from plainstep.core.changes.ops import NOW, WAS
from plainstep.core.layouts.rows import PARTITION, POSITION
from plainstep.core.positions import Waiting
from plainstep.deferred import pa, pc
from plainstep.errors import ConfigError, DataError
from plainstep.stores.feed import Ends, HasMonitors

if TYPE_CHECKING:
    from plainstep.core.changes.batch import Changes
    from plainstep.errors import Refused
    from plainstep.stores.api import Reading
    from plainstep.stores.feed import Feed, FeedRows, HasPartitions

# What is told of all partitions at one moment: their ends, and the transaction that says so.
Opened = AbstractContextManager[tuple[dict[str, Ends], "Reading | None"]]


class PartitionedFeed:
    """A feed made of partitions.

    Args:
        whole: what its rows are made of.
        feeds: tells the partitions that are there, by their names.
        feed: makes the feed of a partition, also of one that is not there any more.
        opened: tells the ends of some feeds at one moment, going on from their watermarks where they have one.
        by: what tells the partitions, for messages.
    """

    def __init__(
        self,
        whole: FeedRows,
        feeds: Callable[[], list[str]],
        feed: Callable[[str], Feed],
        opened: Callable[[Mapping[str, Feed], Mapping[str, str]], Opened],
        by: str,
    ) -> None:
        self.whole, self.by = whole, by
        self._names, self._make, self._opened = feeds, feed, opened
        self.beside, self.is_typed = whole.beside, whole.is_typed
        self.place, self.identity = whole.place, f"{whole.identity}, in each {by}"
        self._wanted: dict[str, pa.DataType | None] | None = None
        self._known: dict[str, Feed] = {}

    @property
    def is_numbered(self) -> bool:
        """No: a position is one of each partition."""
        return False

    def _feed(self, name: str) -> Feed:
        if name not in self._known:
            self._known[name] = self._make(name)
            if self._wanted is not None:
                self._known[name].want(self._wanted)
        return self._known[name]

    def _feeds(self, *tokens: str | None) -> dict[str, Feed]:
        """The feeds of all partitions that are there, or that some tokens know."""
        names = {*self._names(), *(name for token in tokens if token for name in _positions(token))}
        return {name: self._feed(name) for name in sorted(names)}

    def want(self, kinds: dict[str, pa.DataType | None]) -> None:
        """Say what will be read of the rows."""
        self._wanted = kinds
        self.whole.want(kinds)
        for feed in self._known.values():
            feed.want(kinds)

    def columns(self) -> pa.Schema:
        """The columns of what ``read`` gives."""
        schema = self.whole.columns()
        return schema.set(schema.get_field_index(POSITION), pa.field(POSITION, pa.string()))

    def sample(self) -> pa.Table:
        """Some rows, to learn from what they are made of."""
        return self.whole.sample()

    def warnings(self) -> list[str]:
        """What a person should know of it."""
        return [said for feed in self._feeds().values() for said in feed.warnings()]

    @contextmanager
    def opened(self) -> Iterator[tuple[Ends, Reading | None]]:
        """How far it can be read, and the transaction that says so."""
        with self._opened(self._feeds(), {}) as (found, reading):
            yield _together(found), reading

    def ends(self) -> Ends:
        """How far it can be read now."""
        with self.opened() as (ends, _):
            return ends

    def ends_after(self, watermark: str) -> Ends:
        """How far it can be read now, going on from a watermark."""
        with self._opened(self._feeds(watermark), _positions(watermark)) as (found, _):
            return _together(found)

    def refusal(self, load: str, watermark: str, reload: Callable[[bool], str]) -> Refused | None:
        """Why a load cannot go on from a watermark: why it cannot in one of the partitions."""
        before = _positions(watermark)
        for name, feed in self._feeds(watermark).items():
            found = feed.refusal(load, before[name], reload) if name in before else None
            if found is not None:
                return found
        return None

    def at_or_before(self, position: str) -> str | None:
        """The last position of each partition that is not after the one that is named for it; none of those not named."""
        found = {name: self._feed(name).at_or_before(one) for name, one in _named(position).items()}
        return _token(found)

    def before_time(self, moment: datetime) -> str | None:
        """In each partition, the last position before the first change that was made after a time."""
        return _token({name: feed.before_time(moment) for name, feed in self._feeds().items()})

    def count(self, after: str | None, upto: str | None) -> tuple[int | None, bool, datetime | None]:
        """How many rows there are in between, in all partitions."""
        waiting = self.waiting(after, upto)
        return waiting.count, bool(waiting.any), waiting.since

    def waiting(self, after: str | None, upto: str | None) -> Waiting:
        """How many rows there are in between, in all partitions and in each."""
        begins, ends = _positions(after or ""), _positions(upto or "")
        found = {name: self._feed(name).count(begins.get(name), end) for name, end in ends.items()}
        counts = {name: count for name, (count, _, _) in found.items()}
        known = None if None in counts.values() else sum(count or 0 for count in counts.values())
        since = min((since for _, _, since in found.values() if since), default=None)
        return Waiting(known, any(some for _, some, _ in found.values()), since, counts)

    def cut(
        self, after: str | None, upto: str | None, most: int, cut: Callable[[Feed, str | None, str, int], str | None]
    ) -> str | None:
        """Where each partition can be cut, so that each gets on, and no more than so many rows come before in all.

        Args:
            after, upto: what lies between is cut.
            most: how many rows.
            cut: tells where the feed of one partition can be cut; None where it need not be.

        Returns:
            None where none need be.
        """
        begins, ends = _positions(after or ""), _positions(upto or "")
        share = max(most // max(len(ends), 1), 1)
        found = {name: cut(self._feed(name), begins.get(name), end, share) for name, end in ends.items()}
        return _token({name: one or ends[name] for name, one in found.items()}) if any(found.values()) else None

    def runs(self, after: str | None, upto: str | None) -> Iterator[Iterator[pa.Table]]:
        """The rows in between, in order: those of each partition by themselves."""
        begins = _positions(after or "")
        for name, end in _positions(upto or "").items():
            yield self._of_one(name, begins.get(name), end)

    def read(self, after: str | None, upto: str | None) -> Iterator[pa.Table]:
        """The rows in between: those of one partition in order, then those of the next."""
        for rows in self.runs(after, upto):
            yield from rows

    def _of_one(self, name: str, after: str | None, upto: str) -> Iterator[pa.Table]:
        for rows in self._feed(name).read(after, upto):
            labels = pc.binary_join_element_wise(_escaped(name), flat(rows[POSITION]).cast(pa.string()), "=")
            yield rows.set_column(rows.schema.get_field_index(POSITION), POSITION, labels)

    def merged(self, position: str) -> None:
        """All up to a position is merged: tell it of each partition, where that is wanted."""
        for name, one in _positions(position).items():
            feed = self._feed(name)
            if isinstance(feed, HasMonitors):
                feed.merged(one)

    def label(self, position: str) -> str:
        """A position as people know it: that of each partition."""
        found = _positions(position)
        return ",".join(f"{_escaped(name)}={_escaped(self._feed(name).label(one))}" for name, one in found.items())

    def told(self, position: str) -> str:
        """Which row a position means."""
        [(name, one)] = _named(position).items()
        return self._feed(name).told(one)


def of_parts(whole: HasPartitions) -> PartitionedFeed:
    """A feed that can be read one partition at a time, each of which stands by itself: no transaction holds them together."""

    def opened(feeds: Mapping[str, Feed], at: Mapping[str, str]) -> Opened:
        return nullcontext(({name: feed.ends_after(at.get(name, "")) for name, feed in feeds.items()}, None))

    return PartitionedFeed(whole, whole.partitions, whole.partition, opened, whole.partitioned_by)


def in_one_partition(batches: Iterator[Changes], key: tuple[str, ...], feed: PartitionedFeed) -> Iterator[Changes]:
    """The same changes, if those of each row stand in one partition.

    Raises:
        DataError: those of one row stand in several: which came first is not known.
    """
    seen: list[pa.Table] = []
    for changes in batches:
        yield changes
        if len(changes):
            seen.append(_keys_of(changes, key))
            seen = [_distinct(seen)] if len(seen) > BATCHES else seen
    listed = f"{PARTITION}_list"
    found = _distinct(seen).group_by(list(key)).aggregate([(PARTITION, "list")]) if seen else None
    twice = found.filter(pc.greater(pc.list_value_length(found[listed]), 1)) if found else None
    for row in twice.slice(0, 1).to_pylist() if twice else []:
        partitions = [_plain(name) for name in row.pop(listed)]
        told = ", ".join(f"{name} {value}" for name, value in row.items())
        raise DataError(
            f"{feed.place} holds changes of the row with {told} in several partitions ({feed.by} {', '.join(sorted(partitions)[:5])}).",
            "Positions are in order within a partition only, so which of them came first is not known.",
            "Add the partition to 'key', if these are different rows; or choose a 'partition' that keeps each row's changes together.",
        )


# Batches whose keys are kept apart before they are put together: fewer passes over keys that come again.
BATCHES = 16


def _keys_of(changes: Changes, key: tuple[str, ...]) -> pa.Table:
    """The rows that changes are of, and the partitions in which these stand, each once."""
    places = flat(changes.table["position"])
    partition = pc.list_element(pc.split_pattern(places, "=", max_splits=1), 0)
    parts = []
    for side in (WAS, NOW):
        columns = {name: changes.image(side, name) for name in key}
        parts.append(pa.table({**columns, PARTITION: partition}))
    return _distinct([pa.concat_tables(parts).drop_null()])


def _distinct(tables: list[pa.Table]) -> pa.Table:
    whole = pa.concat_tables(tables)
    return whole.group_by(whole.column_names).aggregate([])


def _together(ends: dict[str, Ends]) -> Ends:
    notes = [f"{name}: {one.note}" for name, one in ends.items() if one.note]
    return Ends(
        _token({name: one.first for name, one in ends.items()}),
        _token({name: one.last for name, one in ends.items()}),
        "; ".join(notes),
        all(one.is_whole for one in ends.values()),
    )


def _token(positions: Mapping[str, str | None]) -> str | None:
    """The positions of partitions as one text; None where there is none."""
    there = {name: one for name, one in sorted(positions.items()) if one is not None}
    return json.dumps(there, ensure_ascii=False, separators=(",", ":")) if there else None


def _positions(token: str) -> dict[str, str]:
    return dict(json.loads(token)) if token else {}


def _named(said: str) -> dict[str, str]:
    """The positions that a person wrote, by partition.

    Raises:
        ConfigError: it is not a position of partitions.
    """
    found = {}
    for part in said.split(","):
        name, sign, one = part.partition("=")
        if not sign or not name or not one:
            raise ConfigError(
                f"{said!r} is not a position here.", "Each partition has a position of its own, as in east=17,west=4."
            )
        found[_plain(name)] = _plain(one)
    return found


def _escaped(text: str) -> str:
    return text.replace("%", "%25").replace(",", "%2C").replace("=", "%3D")


def _plain(text: str) -> str:
    return text.replace("%3D", "=").replace("%2C", ",").replace("%25", "%")
