"""Rows that are quarantined because a value in them does not fit its column.

They are left out as by a filter: a row that comes to hold such a value is deleted at the target, and comes back as soon as a
change, or a fresh reading of the table, finds that all its values fit.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from plainstep.core.arrays import numbers
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.ops import NOW, WAS
from plainstep.core.changes.projection import without_rows
from plainstep.deferred import pa
from plainstep.stores.records import LeftOut, QuarantinedRow

# Beside the images of a change: why its old and its new row are quarantined, and the new row as JSON.
WHY = {WAS: "misfit.was", NOW: "misfit.now"}
ROW = "misfit.row"


def noted(out: dict[str, dict[int, str]], names: Sequence[str], rows: Sequence[tuple[Any, ...]]) -> dict[str, pa.Array]:
    """The columns that go with changes through everything that may put them in another order.

    Args:
        out: of each side, which of the changes are quarantined, and why.
        names: the columns of both images.
        rows: the changes as SQLite gave them, the images last.
    """
    first = len(rows[0]) - len(names) if rows else 0
    found = {
        name: pa.array([out[side].get(row) for row in range(len(rows))], pa.string()) for side, name in WHY.items()
    }
    told = [_json(names, rows[row][first:]) if row in out[NOW] else None for row in range(len(rows))]
    return found | {ROW: pa.array(told, pa.string())}


def _json(names: Sequence[str], values: Sequence[Any]) -> str:
    """The new row of a change, or a row, as JSON."""
    row = {name.removeprefix(NOW): value for name, value in zip(names, values, strict=True) if not name.startswith(WAS)}
    return json.dumps(
        row, default=lambda value: value.hex() if isinstance(value, bytes) else str(value), ensure_ascii=False
    )


class Quarantine:
    """The rows that a reading of changes, or of the table, quarantines.

    Args:
        key: the columns that tell rows apart.

    Attributes:
        rows: how many rows of the table were read, without those that are quarantined.
    """

    def __init__(self, key: Sequence[str]) -> None:
        self.key, self.rows = tuple(key), 0
        self._quarantined: dict[str, QuarantinedRow] = {}
        self._back: set[str] = set()

    def left_out(self) -> LeftOut:
        """The rows that are quarantined at the end of what was read, and those that no longer are."""
        return LeftOut(list(self._quarantined.values()), sorted(self._back), rows=self.rows)

    def without(self, changes: Changes) -> Changes:
        """Changes without such rows: as they would be if these were not in the table."""
        table = changes.table
        out = {side: numbers(table[name].is_valid()) for side, name in WHY.items()}
        plain = Changes(table.drop_columns([*WHY.values(), ROW]))
        if not any(one.any() for one in out.values()) and not self._quarantined:
            return plain
        self._follow(changes)
        return without_rows(plain, out[WAS], out[NOW])

    def _follow(self, changes: Changes) -> None:
        """Note which rows are quarantined after these changes, and which are no longer."""
        columns = [side + name for side in (WAS, NOW) for name in self.key]
        for one in changes.table.select([*columns, *WHY.values(), ROW]).to_pylist():
            old, new = (self._place([one[side + name] for name in self.key]) for side in (WAS, NOW))
            if one[WHY[WAS]] is not None or old in self._quarantined:
                self._quarantined.pop(old, None)
                self._back.add(old)
            if one[WHY[NOW]] is not None:
                self._quarantined[new] = QuarantinedRow(new, one[WHY[NOW]], one[ROW])

    def without_rows(
        self, batch: pa.RecordBatch, out: dict[int, str], rows: Sequence[tuple[Any, ...]]
    ) -> pa.RecordBatch:
        """Rows of the table without those that are quarantined.

        Args:
            batch: the rows.
            out: which of them are quarantined, and why.
            rows: the same rows as SQLite gave them.
        """
        names = batch.schema.names
        for row, why in out.items():
            place = self._place([batch.column(name)[row].as_py() for name in self.key])
            self._quarantined[place] = QuarantinedRow(place, why, _json(names, rows[row]))
        self.rows += len(rows) - len(out)
        return batch.filter(pa.array([row not in out for row in range(len(rows))])) if out else batch

    def _place(self, values: Sequence[Any]) -> str:
        """A row's key, in words."""
        return ", ".join(f"{name} = {value}" for name, value in zip(self.key, values, strict=True))
