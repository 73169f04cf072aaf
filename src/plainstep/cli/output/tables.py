"""What a person sees: aligned plain tables, differences first, times in local time with their zone."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from plainstep.cli.console import key_cells, key_heads, new_table, note, op, rest, say, show, text, what_changed
from plainstep.display.text import counts, local, many, printable, row_told, shown, size, span

if TYPE_CHECKING:
    from plainstep.core.changes.parts import NetParts
    from plainstep.loads.check import CheckResult
    from plainstep.loads.load import Load
    from plainstep.loads.outcome import StepOutcome
    from plainstep.stores.records import LedgerEntry
    from plainstep.views.changes import LookResult
    from plainstep.views.ledger import Totals
    from plainstep.views.net import NetResult
    from plainstep.views.status import LoadStatus
    from plainstep.views.trace import TraceResult


def outcomes(found: list[StepOutcome]) -> None:
    """What each step did, a line each."""
    widest = max((len(one.load) for one in found), default=0)
    for one in found:
        if not one.error:
            say(f"{one.load:<{widest}}  {said(one)}")
        for warning in one.warnings:
            say(f"{one.load}: {warning}", err=True)
    last = {one.load: one for one in found}
    for load in [load for load, one in last.items() if one.more]:
        say(
            f"{load}: changes are left for its next step (at_most). To make them all: plainstep step {load} --until-done",
            err=True,
        )


def said(one: StepOutcome) -> str:
    """What a step did, in words."""
    if one.entry is None:
        sent = f"; {one.delivery.summary}" if one.delivery and one.delivery.sent else ""
        return f"nothing to do: merged up to {one.upto}, and nothing is waiting{sent}"
    entry = one.entry
    done = ", ".join(f"{name} {number:,}" for name, number in one.edits.items() if number) or "no row touched"
    took = f"{one.seconds:.2f} s"
    odd = f"; {many(entry.contradictions, 'contradiction')}" if entry.contradictions else ""
    note = f"; {entry.note}" if entry.note else ""
    if entry.kind == "snapshot":
        return f"first load: {many(entry.append, 'row')}, as they stood at {one.upto}{odd}{note}; {took}"
    if entry.kind == "begin":
        return f"begun at {one.upto}: only what changes after this is merged; {took}"
    if entry.kind == "reload":
        return f"loaded again as of {one.upto}: {counts(one.net)} to repair; {done}{odd}{note}; {took}"
    sent = f"; {one.delivery.summary}" if one.delivery else ""
    return f"{many(entry.changes, 'change')} {_window(one.after, one.upto, entry.changes)} came to {counts(one.net)}; {done}{odd}{note}{sent}; {took}"


def _window(after: int | str | None, upto: int | str | None, count: int) -> str:
    """Where changes lie. What was written before a position may be committed after it was read."""
    if after is None:
        return f"up to {upto}"
    return f"committed since {after}" if after == upto and count else f"after {after} up to {upto}"


def look(found: LookResult, page: int = 1) -> None:
    """The changes of a window, the difference first."""
    from plainstep.display.records import changes

    told = f" ({counts(found.counts)})" if found.total else ""
    say(f"{found.load}: {many(found.total, 'change')} {_ends(found)}{told}")
    if found.matching is not None:
        number = sum(found.matching.values())
        say(f"Asked for: {number:,} of them" + (f" ({counts(found.matching)})" if number else ""))
    note(found.note)
    rows = changes(found.changes, found.key)
    heads = {"txn": "txn>", "by": "by"}
    also = [name for name in heads if any(row.get(name) is not None for row in rows)]
    table = new_table(
        ["position>", "time", *(heads[name] for name in also), "op", *key_heads(found.key), "what changed"]
    )
    for row in rows:
        beside = ["" if row[name] is None else text(str(row[name])) for name in also]
        cells: list[Any] = [local(row["at"]), *beside, op(row["op"]), *key_cells(row), what_changed(row, found.key)]
        table.add_row(str(row["position"]), *cells)
    show(table)
    rest(found.more, page + 1)


def _ends(found: LookResult) -> str:
    """The window, with times where they are known."""
    if not found.total or found.upto_at is None:
        return _window(found.after, found.upto, found.total)
    since = f" ({local(found.after_at)})" if found.after_at else ""
    return _window(f"{found.after}{since}", f"{found.upto} ({local(found.upto_at)})", found.total)


def net(found: NetResult, limit: int | None, skip: int = 0) -> None:
    """The net changes of a window, and what a step would do."""
    net = found.parts
    comes = "comes" if net.read == 1 else "come"
    say(
        f"{found.load}: {many(net.read, 'change')} {_window(found.after, found.upto, net.read)} {comes} to "
        f"{many(len(net), 'net change')}" + (f" ({counts(found.counts)})" if len(net) else "")
    )
    done = " and ".join(f"{name} {number:,}" for name, number in found.edits.items() if number)
    say(f"A step would {done} of the target's rows." if done else "A step would touch no row.")
    if found.refusal:
        say(f"A step would be refused: {found.refusal}")
    note(found.note)
    if net.contradictions:
        say(
            f"{many(net.contradictions, 'contradiction')}: changes that do not fit those before them; the last state counts."
        )
    _nets(net, limit, skip)
    if found.changed is not None and len(found.changed):
        say(f"\nAt the target, {many(len(found.changed), 'row')} would change ({counts(found.changed.counts)}):")
        _nets(found.changed, limit, 0, counted=False)


def _nets(net: NetParts, limit: int | None, skip: int, counted: bool = True) -> None:
    """Net changes, a row each; of the rows of a target, which are not sums of changes, without their counts."""
    from plainstep.display.records import nets

    rows, key = nets(net, limit, skip), net.first.shown_key
    table = new_table(["op", *key_heads(key), *(["changes>", "last change"] if counted else []), "what changed"])
    for row in rows:
        more = [f"{row['count']:,}", local(row["at"])] if counted else []
        table.add_row(op(row["op"]), *key_cells(row), *more, what_changed(row, key))
    show(table)
    rest(len(net) - skip - len(rows), skip // limit + 2 if limit else 0)


def trace(found: TraceResult) -> None:
    """The life of a row, and what is left of it."""
    key = tuple(found.key)
    name = ", ".join(f"{column} {shown(value)}" for column, value in found.key.items())
    told = many(len(found.events), "change")
    say(f"{found.load}, {name}: {told} since {found.since}" + (f", up to {found.at}" if found.at else ""))
    heads = {"txn": "txn>", "by": "by"}
    also = [name for name in heads if any(one.change.get(name) is not None for one in found.events)]
    table = new_table(
        ["position>", "time", *(heads[name] for name in also), "op", *key_heads(key), "merged by", "what changed"]
    )
    for one in found.events:
        row = one.change
        beside = ["" if row[name] is None else text(str(row[name])) for name in also]
        step = f"step {one.step.step}, {local(one.step.at)}" if one.step else one.merged_by
        cells: list[Any] = [local(row["at"]), *beside, op(row["op"]), *key_cells(row), step, what_changed(row, key)]
        table.add_row(str(row["position"]), *cells)
    show(table)
    when = f"At {found.at}" if found.at else "Now"
    if not found.known:
        say(f"{when}: not known; the changes that tell it are not held.")
    else:
        say(f"{when}: {row_told(found.row)}")
    if found.target_step:
        then = "the same" if found.known and found.target == found.row else row_told(found.target)
        upto = found.target_step.upto_shown or found.target_step.upto
        say(f"At the target then, merged up to {upto} by step {found.target_step.step}: {then}")
    if not found.at:
        own = {"the target": found.target} if found.holds_rows else {}
        for name, held in {**own, **found.targets}.items():
            place = name if name == "the target" else f"the target of {name}"
            say(f"At {place}: " + ("the same" if held == found.row else row_told(held)))
    if found.restore:
        say(f"To restore it as it was:\n  {printable(found.restore)}")


def status(found: list[LoadStatus]) -> None:
    """Each load's standing, and what to do about it."""
    table = new_table(
        ["load", "from", "into", "watermark>", "merged up to", "head>", "waiting>", "lag>", "health", "last step"]
    )
    for one in found:
        table.add_row(
            text(one.load),
            text(one.source),
            text(one.into),
            "-" if one.merged is None else text(str(one.merged)),
            local(one.watermark.at) if one.watermark else "-",
            "-" if one.head is None else text(str(one.head)),
            ("some" if one.health == "behind" else "-") if one.waiting is None else f"{one.waiting:,}",
            span(one.lag_seconds),
            one.health,
            local(one.last_step.at) if one.last_step else "-",
        )
    show(table)
    _held(found)
    for one in found:
        if one.reason:
            say(f"{one.load}: {one.reason.rstrip('.')}." + (f" {one.remedy}" if one.remedy else ""))
        behind = {name: count for name, count in one.waiting_in.items() if count}
        if behind:
            say(f"{one.load}: waiting in {', '.join(f'{name}: {count:,}' for name, count in behind.items())}.")
        if one.holds_back is not None:
            say(f"{one.load}: the server keeps {size(one.holds_back)} of its log for this.")
        for warning in one.warnings:
            say(f"{one.load}: {warning}")
        if one.limitations:
            say(f"{one.load}: its changes do not show: {'; '.join(one.limitations)}.")


def _held(found: list[LoadStatus]) -> None:
    """What is held of each captured table, a row each."""
    held = {one.source: one for one in found if one.capture and one.capture.how == "capture"}
    kept = ["kept for another>"] if any(one.forgotten_in is not None for one in found) else []
    table = new_table(["captured", "held>", "bytes>", "oldest", *kept])
    for place, one in held.items():
        assert one.capture is not None
        left = "-" if one.forgotten_in is None else span(max(one.forgotten_in, 0))
        cells = (f"{one.capture.held:,}", size(one.capture.size or 0), local(one.capture.oldest_at), left)
        table.add_row(text(place), *cells[: 3 + len(kept)])
    if table.row_count:
        say()
        show(table)


def watermark(one: LoadStatus) -> None:
    """A load's watermark in a line."""
    if one.watermark is None:
        say(f"{one.load} has no watermark: no step was made yet.")
        return
    when = f" ({local(one.watermark.at)})" if one.watermark.at else ""
    waiting = "" if one.waiting is None else f"; waiting: {many(one.waiting, 'change')}"
    say(f"{one.load} is merged up to {one.merged}{when}{waiting}.")


def move(load: Load, to: str) -> None:
    """What moving a watermark would mean."""
    from plainstep.core.positions import Window
    from plainstep.loads.windows import label, resolve

    place = resolve(load, load.source.span(), to)
    now = load.target.watermark(load.name)
    if now is None:
        told = (
            f"{load.name} has no watermark yet; it would begin at {label(load, place)}, without loading what is there."
        )
    elif (place.number, place.token) == (now.position, now.token):
        told = f"{load.name} is merged up to {label(load, place)} already."
    else:
        earlier, later = sorted((place, now.reached), key=lambda one: (one.number, one.token))
        count = load.source.waiting(Window.between(earlier, later)).count
        changes = "the changes in between" if count is None else many(count, "change")
        would = "would be merged again" if place is earlier else "would never be merged"
        told = f"{load.name} is merged up to {label(load, now.reached)}; {changes} {would}."
    say(told, err=True)
    if place.note:
        say(f"Note: {place.note}.", err=True)


def ledger(entries: list[LedgerEntry]) -> None:
    """The steps, a row each."""
    heads = ["when", "load", "step>", "kind", "after>", "upto>", "changes>", "insert>", "update>", "delete>"]
    table = new_table([*heads, "put>", "drop>", "append>", "seconds>", "reading>", "note"])
    for one in entries:
        table.add_row(
            local(one.at),
            text(one.load),
            str(one.step),
            one.kind,
            "-" if one.after is None else text(one.after_shown or str(one.after)),
            text(one.upto_shown or str(one.upto)),
            *(f"{number:,}" for number in (one.changes, one.inserts, one.updates, one.deletes)),
            *(f"{number:,}" for number in (one.put + one.patch, one.drop, one.append)),
            f"{one.seconds:.3f}",
            f"{one.read_seconds:.3f}",
            text(_noted(one)),
        )
    show(table)


def totals(found: list[Totals]) -> None:
    """What the steps of each load came to."""
    table = new_table(
        [
            "load",
            "steps>",
            "from",
            "to",
            "changes>",
            "net>",
            "collapsed>",
            "edits>",
            "contradictions>",
            "seconds>",
            "reading>",
        ]
    )
    for one in found:
        saved = f"{1 - one.net / one.changes:.0%}" if one.changes else "-"
        numbers = (one.changes, one.net)
        cells = (f"{one.steps:,}", local(one.since), local(one.until), *(f"{number:,}" for number in numbers), saved)
        also = (f"{one.edits:,}", f"{one.contradictions:,}", f"{one.seconds:.3f}", f"{one.read_seconds:.3f}")
        table.add_row(text(one.load), *cells, *also)
    show(table)


def _noted(one: LedgerEntry) -> str:
    odd = many(one.contradictions, "contradiction") if one.contradictions else ""
    return "; ".join(part for part in (one.note, odd) if part)


def check(found: list[CheckResult]) -> None:
    """Both sides counted, and what differs."""
    table = new_table(
        [
            "load",
            "result",
            "source rows>",
            "target rows>",
            "missing>",
            "extra>",
            "different>",
            "waiting>",
            "as of>",
        ]
    )
    for one in found:
        if one.error:
            table.add_row(text(one.load), "not compared", *[""] * 7)
            continue
        table.add_row(
            text(one.load),
            "equal" if one.ok else "DIFFERENT",
            *(f"{number:,}" for number in (one.source_rows, one.target_rows, one.missing, one.extra, one.different)),
            f"{one.waiting:,}",
            text(str(one.position)),
        )
    show(table)
    for one in found:
        _differences(one)


def _differences(one: CheckResult) -> None:
    from plainstep.display.records import differences

    if one.ok:
        say(f"{one.load}: {_believed(one)}")
        if one.extra:
            say(f'{one.load}: the extra rows were deleted at the source; deletes = "ignore" leaves them.')
        return
    if one.differences is None:
        return
    say(f"\n{one.load} differs (target, then source):")
    rows = differences(one.differences)
    table = new_table(["what", *key_heads(one.differences.shown_key), "values"])
    for row in rows:
        as_change = {"op": "update", "was": row["target"], "now": row["source"], "changed": row["columns"]}
        if row["what"] != "different":
            as_change["op"] = "insert" if row["what"] == "missing" else "delete"
        table.add_row(row["what"], *key_cells(row), what_changed(as_change, one.differences.shown_key))
    show(table)
    rest(one.differing - one.beside - len(rows))
    if one.beside:
        say(f"{many(one.beside, 'row')} of the values that are counted beside its groups differ, too.")
    if one.incomplete:
        say(f"{one.load}: changes that were merged are gone; rows that only those told of count as extra.")
    if one.repaired:
        done = {name: getattr(one.repaired, name) for name in ("put", "patch", "drop", "append")}
        say(f"{one.load}: repaired in step {one.repaired.step}: {counts(done)}.")
    else:
        say(f"plainstep check {one.load} --repair{' --yes' * one.incomplete} merges exactly these.")


def _believed(one: CheckResult) -> str:
    """What was found equal, and as of when."""
    asked = f"a sample of {100 * one.sample:g} %" if one.sample < 1 else "those that were asked for"
    which = "all" if one.whole else f"of {asked},"
    when = f" ({local(one.at)})" if one.at else ""
    waits = f"; {many(one.waiting, 'change')} waiting since then were allowed for" if one.waiting else ""
    return f"{which} {many(one.target_rows, 'row')} with {many(one.columns, 'column')} were compared as of {one.position}{when}{waits}."
