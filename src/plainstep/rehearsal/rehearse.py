"""A rehearsal: generated statements on a copy of a table, steps between them, and whether every row comes out right."""

from __future__ import annotations

import json
import random
import tempfile
from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.errors import PlainStepError
from plainstep.progress import counted
from plainstep.project_file import load_project
from plainstep.rehearsal.acts import Act, generated

if TYPE_CHECKING:
    from plainstep.project import Project
    from plainstep.stores.capabilities import HasScratch, ScratchTemplate

# How often a history that went wrong is played again, with a part left out, to find the smallest.
TRIES = 120


@dataclass
class RehearsalResult:
    """How a rehearsal went.

    Attributes:
        table: the table, as ``STORE.TABLE``.
        seed: what the statements were made from: the same seed makes them again.
        statements, accepted: how many were tried, and how many the database took.
        changes, steps: how many changes were captured, and how many steps merged them.
        outcome: ``right``, ``wrong`` (a row came out wrong) or ``refused`` (a step was refused).
        reason: what was wrong, or why it was refused.
        smallest: the smallest history that was found to end so.
        notes: what the copy leaves out.
    """

    table: str
    seed: int
    statements: int = 0
    accepted: int = 0
    changes: int = 0
    steps: int = 0
    outcome: str = "right"
    reason: str = ""
    smallest: list[Act] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def rehearse(
    store: HasScratch,
    table: str,
    changes: int = 2000,
    key: tuple[str, ...] = (),
    rows: int = 200,
    seed: int | None = None,
    types: Mapping[str, str] | None = None,
    on_bad_value: str = "refuse",
) -> RehearsalResult:
    """Play generated statements against a copy of a table, and see whether every row comes out right.

    Args:
        store: the store of the table. The copy is made beside it, and removed.
        table: the table's name.
        changes: how many statements to play.
        key: the columns that tell its rows apart, where it has no primary key.
        rows: how many rows of each table are copied, to draw values from; 0 for none.
        seed: makes the same statements again.
        types, on_bad_value: as a load of the table has them.

    Raises:
        PlainStepError: the copy cannot be made, or its changes cannot be captured.
    """
    seed = random.randrange(1 << 32) if seed is None else seed
    result = RehearsalResult(f"{store.name}.{table}", seed)
    with ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="plainstep-rehearsal-")))
        template = stack.enter_context(store.scratch(table, folder, rows))
        result.notes = list(template.notes)
        acts = list(generated(template.tables, changes, seed))
        said = f"types = {{ {', '.join(f'{json.dumps(name)} = {json.dumps(kind)}' for name, kind in (types or {}).items())} }}\n"
        said += f'on_bad_value = "{on_bad_value}"\n' if on_bad_value != "refuse" else ""
        run = _Run(template, folder, key, said)
        result.outcome, result.reason = run.of(acts, f"{result.table}: acts")
        result.statements, result.accepted, result.changes, result.steps = (
            run.tried,
            run.accepted,
            run.changes,
            run.steps,
        )
        if result.outcome != "right":
            result.smallest = _smallest(run, acts[: run.at + 1], result.outcome)
    return result


class _Run:
    """Plays acts on a fresh copy, each time."""

    def __init__(self, template: ScratchTemplate, folder: Path, key: tuple[str, ...], said: str) -> None:
        self.template, self.folder, self.key, self.said = template, folder, key, said
        self.tried = self.accepted = self.changes = self.steps = self.at = 0

    def of(self, acts: Sequence[Act], told: str = "") -> tuple[str, str]:
        """How acts end: ``right``, ``wrong`` or ``refused``, and why."""
        self.tried = self.accepted = self.changes = self.steps = self.at = 0
        target = self.folder / "target.db"
        target.unlink(missing_ok=True)
        with self.template.fresh() as scratch:
            config = self.folder / "plainstep.toml"
            config.write_text(
                f'[stores.copy]\nurl = "${{SCRATCH}}"\n[stores.target]\nurl = "sqlite:///target.db"\n'
                f'[loads.rehearsal]\nfrom = {json.dumps("copy." + self.template.table)}\ninto = "target.rehearsal"\n',
                encoding="utf-8",
            )
            project = load_project(config, {"SCRATCH": scratch.url})  # which may hold a password
            project.capture_on(f"copy.{self.template.table}", self.key)
            ending = self._stepped(project)
            for self.at, [act] in enumerate(
                counted(([one] for one in acts), told, len(acts)) if told else ([one] for one in acts)
            ):
                if ending[0] != "right":
                    break
                if act.statements:
                    self.tried += len(act.statements)
                    self.accepted += scratch.play(act.statements, act.kept)
                else:
                    ending = self._stepped(project)
            return ending if ending[0] != "right" else self._checked(project)

    def _stepped(self, project: Project) -> tuple[str, str]:
        [outcome] = project.step(raise_errors=False)
        self.steps += outcome.outcome == "stepped"
        self.changes += outcome.changes
        return ("refused", _reason(outcome.error)) if outcome.error else ("right", "")

    def _checked(self, project: Project) -> tuple[str, str]:
        try:
            [found] = project.check()
        except PlainStepError as error:
            return "refused", _reason(error)
        if found.ok:
            return "right", ""
        return "wrong", f"missing {found.missing:,}, extra {found.extra:,}, different {found.different:,}"


def _reason(error: PlainStepError) -> str:
    """What went wrong, and why; what to run is of the copy, which is gone by then."""
    return "\n".join(filter(None, (error.what, error.why)))


def _smallest(run: _Run, acts: Sequence[Act], outcome: str) -> list[Act]:
    """The smallest part of a history that still ends so, as far as some tries find it: halves are left out, then less."""
    kept, tries, size = list(acts), 0, max(len(acts) // 2, 1)
    while size and tries < TRIES:
        begin = 0
        while begin < len(kept) and tries < TRIES:
            fewer = [*kept[:begin], *kept[begin + size :]]
            tries += 1
            if run.of([*fewer, Act()])[0] == outcome:
                kept = fewer
            else:
                begin += size
        size //= 2
    for place, act in enumerate(kept):  # and then statements out of transactions
        for number in range(len(act.statements) - 1, -1, -1):
            less = (*act.statements[:number], *act.statements[number + 1 :])
            tries += 1
            if (
                less
                and tries < 2 * TRIES
                and run.of([*kept[:place], Act(less, act.kept), *kept[place + 1 :], Act()])[0] == outcome
            ):
                kept[place] = act = Act(less, act.kept)
    return kept
