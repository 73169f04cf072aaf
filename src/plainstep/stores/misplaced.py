"""Settings of a layout that mean nothing for what is read: refused, and not passed over."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.errors import ConfigError

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig

WHY = {
    "message": "It says how the messages of a broker are written.",
    "pages": "It says how a server gives its changes in pages.",
    "csv": "It says how CSV is written.",
}


def refuse_misplaced(place: str, what: str, layout: LayoutConfig, *names: str, **why: str) -> None:
    """Refuse what a layout says that means nothing.

    Args:
        place: the feed's name, for messages.
        what: what it is, as in "a log of messages".
        layout: the layout.
        names: settings that belong to something else.
        why: further settings, each with the reason.

    Raises:
        ConfigError: it says one of them.
    """
    for name, reason in ({name: WHY[name] for name in names} | why).items():
        if getattr(layout, name):
            raise ConfigError(f"The layout of {place} says {name}, and it is {what}.", reason, f"Leave {name} out.")
