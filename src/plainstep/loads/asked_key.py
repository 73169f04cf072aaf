"""A key that a person wrote, as text, for a load."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.core.changes.batch import Changes
from plainstep.core.changes.filter import key_values
from plainstep.core.changes.ops import NOW
from plainstep.deferred import pa

if TYPE_CHECKING:
    from plainstep.loads.load import Load
    from plainstep.loads.states import LoadState


def asked_key(state: LoadState, values: tuple[str, ...]) -> pa.Table:
    """The key in the types of its columns: one row.

    Raises:
        ConfigError: too many or too few values, or one that does not fit its column.
    """
    nothing = Changes(pa.table({NOW + one.name: pa.array([], one.type) for one in state.schema}))
    return key_values(nothing, state.key, values)


def source_names(load: Load) -> dict[str, str]:
    """The columns of a load's key, each with the name that it has at the source."""
    return dict(zip(load.source.key(), load.whole_source.key(), strict=True))
