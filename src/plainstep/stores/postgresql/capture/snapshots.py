"""Which transactions a place includes: PostgreSQL's snapshots, as text, told apart without a server.

A sequence number is handed out before its transaction commits, and a transaction's number before it writes. So no
number separates what was committed at one moment from what was not: reading *greater than the last one seen* skips
transactions that were open then, and reading only below the oldest open transaction can merge an older state of a row
over a newer one, because a transaction with a low number may write a row after one with a high number. The server's
own snapshots do separate them, and whoever waited for a row's lock sees the one it waited for: a set of transactions
that are all visible in a snapshot never lacks one that came before them on the same row.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True)
class Snapshot:
    """The transactions that are finished at one moment.

    Attributes:
        xmin: all transactions below it are finished.
        xmax: all from it on are not.
        open: those in between that are not.
    """

    xmin: int
    xmax: int
    open: frozenset[int] = frozenset()

    @staticmethod
    def parse(text: str) -> Snapshot:
        """Read a snapshot as the server writes it: ``xmin:xmax:open,open``."""
        xmin, xmax, listed = text.split(":")
        return Snapshot(int(xmin), int(xmax), frozenset(int(xid) for xid in listed.split(",") if xid))

    def __str__(self) -> str:
        return f"{self.xmin}:{self.xmax}:{','.join(map(str, sorted(self.open)))}"

    def includes(self, xid: int) -> bool:
        """Whether a transaction is finished in it."""
        return xid < self.xmax and xid not in self.open

    def without(self, late: Iterable[int], newest: int) -> Snapshot:
        """The same, less some transactions.

        Args:
            late: those to leave out.
            newest: the newest transaction that stays in; later ones need not be told apart.
        """
        xmax = min(self.xmax, newest + 1)
        left_out = frozenset(xid for xid in {*self.open, *late} if xid < xmax)
        return Snapshot(min(left_out, default=xmax), xmax, left_out)

    def widened(self, xid: int) -> int:
        """The full number of a transaction that is told by its last 32 bits only, near this snapshot."""
        low = 1 << 32
        full = self.xmax - self.xmax % low + xid
        return min((full - low, full, full + low), key=lambda one: abs(one - self.xmax))
