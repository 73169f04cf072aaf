"""The JSON form of everything a command shows."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from plainstep.display.records import changes, differences, nets

if TYPE_CHECKING:
    from plainstep.loads.check import CheckResult
    from plainstep.loads.outcome import StepOutcome
    from plainstep.loads.quarantine import Retried
    from plainstep.loads.retention import Trimmed
    from plainstep.stores.records import CaptureInfo, LedgerEntry, QuarantinedRow
    from plainstep.views.changes import LookResult
    from plainstep.views.ledger import Totals
    from plainstep.views.net import NetResult
    from plainstep.views.status import LoadStatus
    from plainstep.views.trace import TraceResult


def outcome(found: StepOutcome) -> dict[str, Any]:
    """What a step did."""
    form: dict[str, Any] = {
        "load": found.load,
        "outcome": found.outcome,
        "after": found.after,
        "upto": found.upto,
        "changes": found.changes,
        "net": found.net,
        "edits": found.edits,
        "seconds": round(found.seconds, 6),
    }
    if found.entry:
        form["contradictions"] = found.entry.contradictions
    if found.delivery:
        form["events"] = {name: getattr(found.delivery, name) for name in ("sent", "waiting", "quarantined", "problem")}
    if found.warnings:
        form["warnings"] = found.warnings
    if found.error:
        form["error"] = {"what": found.error.what, "why": found.error.why, "next": found.error.next}
    return form


def look(found: LookResult) -> dict[str, Any]:
    """The changes of a window."""
    form: dict[str, Any] = {
        "load": found.load,
        "after": found.after,
        "upto": found.upto,
        "counts": found.counts,
        "changes": [change(row) for row in changes(found.changes, found.key)],
        "more": found.more,
    }
    if found.matching is not None:
        form["matching"] = found.matching
    return form | ({"note": found.note} if found.note else {})


def change(row: dict[str, Any]) -> dict[str, Any]:
    """One change."""
    return {name: row.get(name) for name in ("position", "op", "at", "txn", "by", "key", "was", "now", "changed")}


def net(found: NetResult, limit: int | None, skip: int = 0) -> dict[str, Any]:
    """The net changes of a window."""
    rows = nets(found.net, limit, skip)
    form = {
        "load": found.load,
        "after": found.after,
        "upto": found.upto,
        "read": found.net.read,
        "counts": found.counts,
        "edits": found.edits,
        "contradictions": found.net.contradictions,
        "net": [{name: row[name] for name in ("op", "key", "was", "now", "changed", "count")} for row in rows],
        "more": max(len(found.net) - skip - len(rows), 0),
    }
    if found.rows is not None:
        told = ("op", "key", "was", "now", "changed")
        form["rows"] = [{name: row[name] for name in told} for row in nets(found.rows, limit)]
    if found.refusal:
        form["refusal"] = found.refusal
    return form | ({"note": found.note} if found.note else {})


def trace(found: TraceResult) -> dict[str, Any]:
    """The life of a row."""
    return {
        "load": found.load,
        "key": found.key,
        "since": found.since,
        "events": [
            change(one.change)
            | {"step": one.step.step if one.step else None, "merged_at": one.step.at if one.step else None}
            for one in found.events
        ],
        "at": found.at or None,
        "row": found.row,
        "known": found.known,
        "target": found.target,
        "targets": found.targets,
        "restore": found.restore,
    }


def status(found: LoadStatus) -> dict[str, Any]:
    """Where a load stands."""
    watermark = found.watermark
    return {
        "load": found.load,
        "from": found.source,
        "into": found.into,
        "shape": found.shape,
        "watermark": {"position": found.merged, "at": watermark.at, "step": watermark.step} if watermark else None,
        "head": found.head,
        "waiting": found.waiting,
        "holds_back_bytes": found.holds_back,
        "lag_seconds": found.lag_seconds,
        "health": found.health,
        "reason": found.reason,
        "remedy": found.remedy,
        "warnings": found.warnings,
        "limitations": found.limitations,
        "held": _held(found.capture) if found.capture else None,
        "forgotten_in_seconds": found.forgotten_in,
        "last_step": entry(found.last_step) if found.last_step else None,
    }


def _held(found: CaptureInfo) -> dict[str, Any]:
    """What a capture holds."""
    return {"changes": found.held, "bytes": found.size, "oldest": found.oldest, "oldest_at": found.oldest_at}


def entry(found: LedgerEntry) -> dict[str, Any]:
    """A step in the ledger."""
    return {
        "load": found.load,
        "step": found.step,
        "kind": found.kind,
        "at": found.at,
        "after": found.after_shown or found.after,
        "upto": found.upto_shown or found.upto,
        "changes": found.changes,
        "net": {"insert": found.inserts, "update": found.updates, "delete": found.deletes},
        "edits": {name: getattr(found, name) for name in ("put", "patch", "drop", "append", "add")},
        "contradictions": found.contradictions,
        "seconds": round(found.seconds, 6),
        "read_seconds": round(found.read_seconds, 6),
        "lag_seconds": found.lag_seconds,
        "note": found.note,
    }


def trimmed(found: Trimmed) -> dict[str, Any]:
    """What was, or would be, forgotten."""
    return {
        "store": found.store,
        "table": found.table,
        "held": found.held,
        "gone": found.gone,
        "done": found.done,
        "reason": found.reason,
        "readers": [vars(one) for one in found.readers],
    }


def totals(found: Totals) -> dict[str, Any]:
    """What all steps of a load came to."""
    return {name: round(value, 6) if isinstance(value, float) else value for name, value in vars(found).items()}


def quarantined(load: str, row: QuarantinedRow) -> dict[str, Any]:
    """A row that was quarantined."""
    return {"load": load, "place": row.place, "step": row.step, "reason": row.reason, "row": json.loads(row.row)}


def retried(found: Retried) -> dict[str, Any]:
    """What happened to rows that were quarantined."""
    return {"load": found.load, "merged": found.merged, "left": found.left, "gone": found.gone}


def check(found: CheckResult) -> dict[str, Any]:
    """Target against source."""
    names = (
        "load",
        "ok",
        "position",
        "source_rows",
        "target_rows",
        "waiting",
        "missing",
        "extra",
        "different",
        "beside",
        "columns",
        "whole",
    )

    if found.differences is None:
        return {"load": found.load, "ok": False, "error": str(found.error)}
    form = {name: getattr(found, name) for name in names} | {"differences": differences(found.differences)}
    return form | ({"repaired": entry(found.repaired)} if found.repaired else {})


def capture(store: str, found: CaptureInfo) -> dict[str, Any]:
    """What is captured of a table."""
    return {
        "store": store,
        "table": found.table,
        "key": list(found.key),
        "columns": list(found.columns),
        "since": found.since,
        "held": found.held,
        "oldest": found.oldest,
        "head": found.head,
        "how": found.how,
        "holds_back_bytes": found.holds_back,
        "columns_not_captured": list(found.waiting_columns),
        "problem": found.problem,
        "remedy": found.remedy,
    }
