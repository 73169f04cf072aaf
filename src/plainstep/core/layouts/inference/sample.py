"""Some rows of a feed, and what they are made of."""

from __future__ import annotations

from plainstep.core.arrays import Bools
from plainstep.core.casting import as_text
from plainstep.core.layouts import records
from plainstep.core.layouts.fields import fields_of
from plainstep.core.layouts.rows import POSITION, WRONG, Raw
from plainstep.deferred import pa


class Sample:
    """Some rows, and what they are made of.

    Args:
        rows: the rows.
        fields: what they are made of, by path.
    """

    def __init__(self, rows: pa.Table, fields: dict[str, pa.DataType]) -> None:
        self.fields = {path: kind for path, kind in fields.items() if path != POSITION}
        self.raw = Raw(rows)
        self.raw.read({path: kind for path, kind in self.fields.items() if self.raw.within(path)})
        self.count = len(self.raw)
        self._texts: dict[str, list[str | None]] = {}

    def column(self, path: str) -> pa.Array:
        """The values under a path."""
        return self.raw.typed(path, self.fields[path]) if self.raw.within(path) else self.raw.column(path)

    def texts(self, path: str) -> list[str | None]:
        """The same as texts."""
        if path not in self._texts:
            self._texts[path] = as_text(self.column(path)).to_pylist()
        return self._texts[path]

    def there(self, path: str) -> Bools:
        """In which rows there is a value."""
        found: Bools = self.column(path).is_valid().to_numpy(zero_copy_only=False)
        return found

    def named(self, words: tuple[str, ...], paths: list[str]) -> list[str]:
        """The paths whose last name, or a part of it, is one of these words; the earlier the word, the earlier the path."""

        def rank(path: str) -> int:
            last = path.rpartition(".")[2].lower()
            parts = {last, *last.split("_")}
            return min((place for place, word in enumerate(words) if word in parts), default=len(words))

        return [path for path in sorted(paths, key=rank) if rank(path) < len(words)]

    def leaves(self) -> list[str]:
        """The paths that hold no others."""
        return [path for path in self.fields if not any(one.startswith(f"{path}.") for one in self.fields)]

    def only(self, mask: Bools) -> Sample:
        """Some of the rows, and what these are made of."""
        rows = self.raw.rows.filter(pa.array(mask))
        return Sample(rows, fields_of(rows))

    def by_record(self, path: str) -> Sample | None:
        """A row for each record of the lists under a path; None if not every row has a list there, or none holds any."""
        if not (pa.types.is_string(self.fields[path]) or pa.types.is_list(self.fields[path])):
            return None
        first = next((text for text in self.column(path).to_pylist() if text), None)
        if first is None or (isinstance(first, str) and not first.lstrip().startswith("[")):
            return None
        rows = records.by_record(self.raw.rows, path)
        if rows[WRONG].null_count < rows.num_rows or rows.num_rows == 0:
            return None
        kind = records.kind_of(self.raw.rows, path)
        fields = fields_of(rows)
        if any(one.startswith(f"{path}.") for one in fields):
            fields = {one: found for one, found in fields.items() if one != path}
        elif kind is not None:
            fields[path] = kind
        return Sample(rows, {one: found for one, found in fields.items() if one != WRONG})
