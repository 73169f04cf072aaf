"""A layout that is proposed: guesses, each with its reason."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any


@dataclass
class Guess:
    """One setting, and why it was guessed.

    Attributes:
        name: the setting.
        value: what was guessed.
        why: what in the rows speaks for it.
        sure: whether the rows leave little doubt.
    """

    name: str
    value: Any
    why: str
    sure: bool = False


@dataclass
class Proposal:
    """A whole layout that was guessed.

    Attributes:
        guesses: its settings.
        codes: how often each code of the operation stands in the rows.
        key: the columns that seem to tell rows apart.
        asked: settings that are needed, and for which nothing was found.
        few: where nothing tells the operation, the columns of few values that might, with these values.
    """

    guesses: list[Guess] = field(default_factory=list)
    codes: dict[str, int] = field(default_factory=dict)
    key: Guess | None = None
    asked: list[str] = field(default_factory=list)
    few: dict[str, list[str]] = field(default_factory=dict)

    def unsure(self) -> list[str]:
        """The settings that the rows leave in doubt; the operation also where nothing tells it."""
        doubted = [one.name for one in [self.key, *self.guesses] if one and one.value != [] and not one.sure]
        told = self.value("operation") is not None or any(
            self.value(name) is not None for name in ("deleted", "only_new", "lookup", "valid_from")
        )
        return [*([] if told else ["operation"]), *self.asked, *doubted]

    def add(self, name: str, paths: list[str], why: str, sure: bool = False) -> None:
        """Name further columns in a setting."""
        for one in self.guesses:
            if one.name == name:
                one.value, one.why, one.sure = [*one.value, *paths], f"{one.why}; {why}", one.sure and sure
                return
        self.guesses.append(Guess(name, paths, why, sure))

    def confirm(self, name: str, why: str) -> None:
        """Note that what was guessed for a setting agrees with all rows."""
        for one in self.guesses:
            if one.name == name and not one.sure:
                one.why, one.sure = f"{one.why}; {why}", True

    def drop(self, name: str, path: str) -> None:
        """Take back that a setting names a column: another setting does."""
        for one in [one for one in self.guesses if one.name == name]:
            rest = [value for value in one.value if value != path] if isinstance(one.value, list) else []
            if rest:
                one.value = rest
            elif one.value in (path, [path]):
                self.guesses.remove(one)

    def value(self, name: str) -> Any:
        """What was guessed for a setting, or None."""
        return next((one.value for one in self.guesses if one.name == name), None)
