"""Whether the rows of a window come in the order of their positions, and are of the window."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from plainstep.core.arrays import flat
from plainstep.core.layouts.rows import POSITION
from plainstep.core.position_labels import joined, parted
from plainstep.core.position_values import PositionKind, kind_of
from plainstep.deferred import np, pa, pc
from plainstep.errors import ConfigError, Refused

if TYPE_CHECKING:
    from plainstep.core.layouts.layout import Layout
    from plainstep.settings.layout import LayoutConfig


class QueryOrder:
    """One reading of a window.

    Args:
        place: the feed's name, for messages.
        said: its layout, as it is said.
        kind: of which kind its positions are; None where a window has no bounds.
        after, upto: the window.
        layout: how its rows are read, where that is known: it names the key of rows that have no positions of their own.
    """

    def __init__(
        self, place: str, said: LayoutConfig, kind: PositionKind | None, after: str, upto: str, layout: Layout | None
    ) -> None:
        self.place, self.said, self.kind, self.layout = place, said, kind, layout
        self.after, self.upto = after, upto
        self._kinds: dict[str, PositionKind] = {}
        if kind is not None:
            self._kinds |= dict.fromkeys(self.said.position[:1], kind)
        self._last: tuple[Any, ...] | None = None
        self._keys: list[pa.Table] = []

    @staticmethod
    def refuse_absent(position: Sequence[str], there: Sequence[str], place: str) -> None:
        """Refuse a position whose columns are not there.

        Raises:
            ConfigError: one is not.
        """
        lacking = next((name for name in position if name not in there), None)
        if lacking is not None:
            raise ConfigError(
                f"The position names the column {lacking!r}, which the query 'read' of {place} does not give.",
                f"Its columns: {', '.join(there)}.",
                "Fix 'position' in the layout, or the query.",
            )

    @staticmethod
    def ends_of(positions: pa.ChunkedArray, columns: int) -> pa.ChunkedArray:
        """The first value of each position, where positions have several."""
        if columns < 2:
            return positions
        first = pc.struct_field(pc.extract_regex(positions, "^(?P<first>[^/]*)"), "first")
        return pc.replace_substring(pc.replace_substring(first, "%2F", "/"), "%25", "%")  # as ``parted`` has it

    @staticmethod
    def first_of(position: str, columns: int) -> str:
        """The first value of a position that has several."""
        return parted(position, columns)[0]

    def positioned(self, rows: pa.Table) -> pa.Table:
        """Rows with their positions.

        Raises:
            Refused: they are out of order, or of another window.
        """
        if not self.said.position:
            self._keys += [self._key_of(rows)] if self.layout else []
            return rows.append_column(
                POSITION, pa.array([self.upto]).take(pa.array(np.zeros(len(rows), dtype=np.int64)))
            )
        labels, ranks, places = zip(*(self._coded(rows, name) for name in self.said.position), strict=True)
        self._refuse_disorder(ranks, places)
        if self.kind is not None:
            self._refuse_others(self.kind, ranks[0], places[0], labels[0])
        texts = [pa.array(one).take(pa.array(place)) for one, place in zip(labels, places, strict=True)]
        if len(texts) > 1:
            texts = [pc.replace_substring(pc.replace_substring(one, "%", "%25"), "/", "%2F") for one in texts]
            texts = [pc.binary_join_element_wise(*texts, "/")]
        return rows.append_column(POSITION, texts[0])

    def _coded(self, rows: pa.Table, name: str) -> tuple[list[str], list[Any], Any]:
        """The different values of a column of the position as texts, what is in their order, and where each row's lies among them."""
        coded = flat(rows[name]).dictionary_encode()
        if coded.null_count:
            raise Refused(
                f"A row of {self.place} has no position: {name} is null.",
                "Its place in the order is not known.",
                "Let the query give it one, or leave it out.",
            )
        values = coded.dictionary.to_pylist()
        kind = self._kinds.get(name) or self._kind_of(name, values)
        try:
            labels = [kind.label(value) for value in values]
            ranks = [kind.rank(label) for label in labels]
        except (ValueError, TypeError, ArithmeticError):
            raise Refused(
                f"{name} of {self.place} holds a position that is not {kind.name}, as those before it are.",
                "Which comes first is not known.",
                "Cast it in the query.",
            ) from None
        return labels, ranks, np.asarray(coded.indices)

    def _kind_of(self, name: str, values: list[Any]) -> PositionKind:
        """The kind of a further column of the position; results without types give numbers as texts."""
        digits = all(isinstance(value, str) and re.fullmatch(r"-?\d+", value) for value in values)
        one = int(values[0]) if digits else values[0]
        self._kinds[name] = kind_of(one, f"the column {name} of {self.place}", name in self.said.hexadecimal)
        return self._kinds[name]

    def _refuse_disorder(self, ranks: tuple[list[Any], ...], places: tuple[Any, ...]) -> None:
        """Refuse rows that do not follow each other."""
        later = np.zeros(len(places[0]) - 1, dtype=np.bool_)
        equal = ~later
        for of_values, place in zip(ranks, places, strict=True):
            order = np.empty(len(of_values), dtype=np.int64)
            order[sorted(range(len(of_values)), key=of_values.__getitem__)] = np.arange(len(of_values))
            numbers = order[place]
            later |= equal & (numbers[1:] > numbers[:-1])
            equal &= numbers[1:] == numbers[:-1]
        first, last = (tuple(of[place[at]] for of, place in zip(ranks, places, strict=True)) for at in (0, -1))
        if not (later | equal).all() or (self._last is not None and first < self._last):
            raise Refused(
                f"The query 'read' of {self.place} gives rows that are not in the order of {', '.join(self.said.position)}.",
                "Of two changes of one row, the later one must come later.",
                f"Add ORDER BY {', '.join(self.said.position)} to it.",
            )
        self._last = last

    def _refuse_others(self, kind: PositionKind, ranks: list[Any], places: Any, labels: list[str]) -> None:
        """Refuse rows that are not of the window. They are in order: the first and the last tell."""
        low, high = kind.rank(self.after), kind.rank(self.upto)
        for at in (places[0], places[-1]):
            if not low < ranks[at] <= high:
                raise Refused(
                    f"The query 'read' of {self.place} gives a row at {labels[at]} for the window after {self.after} and up to {self.upto}.",
                    "It would be merged twice, or too early.",
                    "Write it so that positions are greater than :after, and not greater than :upto.",
                )

    def _key_of(self, rows: pa.Table) -> pa.Table:
        """The keys of rows, as texts."""
        assert self.layout is not None
        columns = {}
        for name in self.layout.key:
            paths = [self.layout.path(one, name) for one in (self.layout.now, self.layout.was) if one]
            there = [flat(rows[path]).cast(pa.string()) for path in paths if path in rows.column_names]
            if not there:
                raise ConfigError(
                    f"The key {name!r} of {self.place} is not a column of its query 'read', and the layout names no position.",
                    "Without one, whether a row comes once in a window is told by its key.",
                    'Name the columns that order the changes: position = ["..."] in the layout.',
                )
            columns[name] = pc.coalesce(*there)
        return pa.table(columns)

    def finish(self) -> None:
        """After all rows: refuse a key that came more than once, where no position tells which of its rows came first.

        Raises:
            Refused: one did.
        """
        if not self._keys or self.layout is None:
            return
        counts = pa.concat_tables(self._keys).group_by(list(self.layout.key)).aggregate([([], "count_all")])
        most = 2 if self.layout.in_pairs else 1
        often = counts.filter(pc.greater(counts["count_all"], most))
        if often.num_rows:
            key = joined([str(often[name][0]) for name in self.layout.key])
            raise Refused(
                f"The query 'read' of {self.place} gives {often['count_all'][0].as_py()} rows with the key {key} for one window.",
                "Which of them came last is not known.",
                'Let it give net changes; or name the columns that order them: position = ["..."] in the layout.',
            )
