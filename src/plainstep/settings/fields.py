"""What settings are made of: tables of them, one name or several, codes."""

from __future__ import annotations

from collections.abc import Callable, Collection
from functools import cache
from typing import Annotated, Any, Literal, get_args, get_origin

from msgspec import NODEFAULT, Meta, Struct, structs

# What a value must pass, unless it is the default, and which values may stand for a list of one: kept with a setting's type, under these names.
CHECK, ONE_OF_MANY = "check", "one_of_many"


class WrongSetting(Exception):
    """A setting that cannot be what it is, beside the others.

    Args:
        setting: its name.
        why: what is wrong.
    """

    def __init__(self, setting: str, why: str) -> None:
        super().__init__(why)
        self.setting = setting


class Settings(Struct, kw_only=True, forbid_unknown_fields=True):
    """A table of settings.

    Attributes:
        named: the settings that were given, whether or not they differ from their defaults.
    """

    named: frozenset[str] = frozenset()

    @classmethod
    def implied(cls, given: dict[str, Any]) -> dict[str, Any]:
        """What is given, with what follows from it."""
        return given

    def check(self) -> None:
        """Look at what the settings say together.

        Raises:
            WrongSetting: one cannot be what it is, beside the others.
        """

    def as_dict(self, without: Collection[str] = (), defaults: bool = True) -> dict[str, Any]:
        """The settings by name, those of tables within likewise.

        Args:
            without: names that are left out, such as ``"settle"``, or ``"query.rows"`` of a table within.
            defaults: whether those that are as their defaults are among them.
        """
        found = {}
        for one in fields_of(type(self)):
            value = getattr(self, one.name)
            if one.name in without or (not defaults and value == usual(one)):
                continue
            if isinstance(value, Settings):
                inside = [name.removeprefix(f"{one.name}.") for name in without if name.startswith(f"{one.name}.")]
                value = value.as_dict(inside, defaults)
            found[one.name] = value
        return found


@cache
def fields_of(model: type[Settings]) -> list[structs.FieldInfo]:
    """The settings of a table: their names, types and defaults."""
    return [one for one in structs.fields(model) if one.name != "named"]


def usual(one: structs.FieldInfo) -> Any:
    """What a setting is where nothing is said."""
    return one.default if one.default_factory is NODEFAULT else one.default_factory()


def setting(description: str, check: Callable[[Any], object] | None = None, **limits: Any) -> Meta:
    """What is said of a setting beside its type.

    Args:
        description: what it does, for editors and the documentation.
        check: what a value that is not the default must pass; it raises ValueError for another.
        limits: ``ge``, ``min_length``.
    """
    return Meta(description=description, extra={CHECK: check} if check else None, **limits)


def parts_of(kind: Any) -> list[Any]:
    """What a type may be, where it is one of several, and what is said of it."""
    if get_origin(kind) in (list, dict, Literal):
        return []
    return [part for one in get_args(kind) for part in (one, *parts_of(one))]


def said_of(kind: Any) -> dict[str, Any]:
    """What is said of a type for us: ``CHECK``, ``ONE_OF_MANY``."""
    return {
        name: what for meta in parts_of(kind) if isinstance(meta, Meta) for name, what in (meta.extra or {}).items()
    }


def one_or_several(*one: type) -> Meta:
    """Of a list: one of its items, of these types, may stand for it."""
    return Meta(extra={ONE_OF_MANY: one})


# How many, one at least.
Count = Annotated[int, Meta(ge=1)]
# A code as TOML writes it.
Code = str | int | bool
Names = Annotated[list[str], one_or_several(str)]
Codes = Annotated[list[Code], one_or_several(str, int, bool)]
