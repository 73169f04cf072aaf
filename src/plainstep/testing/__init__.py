"""For those who write stores: suites that hold a store against every law that it claims to keep. See docs/writing-a-store.md."""

from plainstep.testing.as_source import Captured, KilledReaders, OpenTransactions, SourceConformance, Trimmed
from plainstep.testing.as_target import (
    KeptVersions,
    KilledWriters,
    RacingWriters,
    RowTarget,
    TablesOfOthers,
    TargetConformance,
)
from plainstep.testing.harness import Harness, SqlHarness
from plainstep.testing.histories import Act, after_each, history

__all__ = [
    "Act",
    "Captured",
    "Harness",
    "KeptVersions",
    "KilledReaders",
    "KilledWriters",
    "OpenTransactions",
    "RacingWriters",
    "RowTarget",
    "SourceConformance",
    "SqlHarness",
    "TablesOfOthers",
    "TargetConformance",
    "Trimmed",
    "after_each",
    "history",
]
