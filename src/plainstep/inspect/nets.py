"""The net changes of a window, and what a step would do with them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from plainstep.committing import refuse_unfit
from plainstep.errors import Refused
from plainstep.inspect.looking import noted
from plainstep.netting import edits_of, news, read_net, refuse_doubtful
from plainstep.stores.base import LeanSource
from plainstep.windows import ends, window

if TYPE_CHECKING:
    from plainstep.core.edits import Edits
    from plainstep.core.net import NetChanges
    from plainstep.core.positions import Window
    from plainstep.load import Load


@dataclass
class NetResult:
    """The net changes of a window.

    Attributes:
        load: the load's name.
        after, upto: the window, ``(after, upto]``.
        net: the net changes.
        edits: what a step over this window would do: rows by primitive.
        refusal: why a step over this window would be refused, as far as that shows before it; else empty.
        note: how well the window could be found, where there is something to say.
    """

    load: str
    after: int | str
    upto: int | str
    net: NetChanges
    edits: dict[str, int]
    refusal: str = ""
    note: str = ""

    def _repr_html_(self) -> str:
        from plainstep import notebook

        return notebook.net(self)

    def __len__(self) -> int:
        return len(self.net)

    @property
    def counts(self) -> dict[str, int]:
        """How many net changes there are of each operation."""
        return self.net.counts

    def to_arrow(self) -> object:
        """The net changes as an Arrow table; see ``NetChanges.to_arrow``."""
        return self.net.to_arrow()

    def to_pandas(self) -> object:
        """The net changes as a pandas DataFrame; see ``NetChanges.to_pandas``."""
        return self.net.to_pandas()


def net(load: Load, after: str | None = None, upto: str | None = None) -> NetResult:
    """The net changes of a window, and what a step would do with them."""
    asked = window(load, after, upto)
    found = read_net(load, asked)
    if after is None and upto is None:
        found = news(load, found)
    refusal, counted = "", {}
    try:
        counted = _counted(edits_of(load, found))
        _refuse_what_a_step_would(load, asked, found)
    except Refused as error:
        refusal = error.what
    return NetResult(load.name, *ends(load, asked), found, counted, refusal, noted(load, asked))


def _refuse_what_a_step_would(load: Load, asked: Window, found: NetChanges) -> None:
    """Refuse what a step over this window would refuse, as far as that shows without trying."""
    if load.config.strict is None and not isinstance(load.source, LeanSource):
        refuse_doubtful(load, asked, found)
    if load.config.strict and found.contradictions:
        raise Refused("changes contradict those before them, and strict = true refuses that.")
    wanted = load.target.fits(load.source.schema())
    refuse_unfit(load, wanted, load.target.table(load.into_table, found.key), load.target.mark(load.name) is not None)


def _counted(edits: Edits) -> dict[str, int]:
    """How many rows each primitive would touch."""
    return {
        "put": edits.put.num_rows if edits.put is not None else 0,
        "patch": sum(part.num_rows for part in edits.patch),
        "drop": edits.drop.num_rows if edits.drop is not None else 0,
        "append": 0,
        "add": 0,
    }
