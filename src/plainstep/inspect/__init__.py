"""Looking without touching: changes, net changes, lives of rows, status, ledger and check. Nothing here writes anywhere."""

from plainstep.inspect.checking import CheckResult, check, incomparable, left_out
from plainstep.inspect.looking import LookResult, flat_changes, look
from plainstep.inspect.nets import NetResult, net
from plainstep.inspect.standing import LoadStatus, status, statuses
from plainstep.inspect.steps import Totals, ledger, totals
from plainstep.inspect.tracing import TraceResult, trace

__all__ = [
    "CheckResult",
    "LoadStatus",
    "LookResult",
    "NetResult",
    "Totals",
    "TraceResult",
    "check",
    "flat_changes",
    "incomparable",
    "ledger",
    "left_out",
    "look",
    "net",
    "status",
    "statuses",
    "totals",
    "trace",
]
