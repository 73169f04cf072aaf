"""From what TOML says to settings, or what is wrong with them, and where."""

from __future__ import annotations

from typing import Any, Literal, TypeVar, get_args, get_origin

from msgspec import ValidationError, convert
from msgspec.structs import FieldInfo

from plainstep.settings.fields import CHECK, ONE_OF_MANY, Settings, WrongSetting, fields_of, parts_of, said_of, usual

Made = TypeVar("Made", bound=Settings)
Place = tuple[str, ...]
Problem = Literal["unknown", "missing", "table", "value", "combination"]


class Unfit(Exception):
    """Something in a file that cannot be what it is.

    Args:
        problem: a setting that is unknown or missing, a value where a table should be, one that does not fit, or one that does not go with
            others of its table.
        place: the path to it; of a combination, to its table and the setting that is wrong there.
        why: of a value or a combination, what is wrong, as a clause.
        value: what is there.
        known: of an unknown setting, which ones there are.
    """

    def __init__(self, problem: Problem, place: Place, why: str = "", value: Any = None, known: Place = ()) -> None:
        super().__init__(why)
        self.problem, self.place, self.why, self.value, self.known = problem, place, why, value, known


def read_settings(model: type[Made], given: Any, place: Place = ()) -> Made:
    """The settings that are given.

    Args:
        model: which settings they are.
        given: what TOML says.
        place: the path to it.

    Raises:
        Unfit: something in it cannot be what it is: first of all what is unknown, as what is missing may be there under a misspelt name.
    """
    _refuse_unknown(model, given, place)
    return _read(model, given, place)


def _refuse_unknown(model: type[Settings], given: Any, place: Place) -> None:
    if not isinstance(given, dict):
        return
    known = {one.encode_name: one for one in fields_of(model)}
    for name, value in given.items():
        if name not in known:
            raise Unfit("unknown", (*place, name), value=value, known=tuple(known))
        inner, each = _model(known[name].type)
        if inner and isinstance(value, dict):
            for within, one in value.items() if each else [("", value)]:
                _refuse_unknown(inner, one, (*place, name, within) if each else (*place, name))


def _read(model: type[Made], given: Any, place: Place) -> Made:
    if isinstance(given, model):
        return given
    if not isinstance(given, dict):
        raise Unfit("table", place, value=given)
    given = model.implied(given)
    values: dict[str, Any] = {}
    for one in fields_of(model):
        where = (*place, one.encode_name)
        if one.encode_name in given:
            values[one.name] = _value(one, given[one.encode_name], where)
        elif one.required:
            raise Unfit("missing", where)
    made = model(named=frozenset(values), **values)
    try:
        made.check()
    except WrongSetting as wrong:
        raise Unfit("combination", (*place, wrong.setting), str(wrong)) from None
    return made


def _value(one: FieldInfo, given: Any, place: Place) -> Any:
    """The value of a setting."""
    kind = one.type
    model, each = _model(kind)
    if model and each and isinstance(given, dict):
        return {name: _read(model, table, (*place, name)) for name, table in given.items()}
    if model and (isinstance(given, dict | model) or str not in parts_of(kind)):
        return _read(model, given, place)
    said = said_of(kind)
    if isinstance(given, said.get(ONE_OF_MANY, ())):
        given = [given]
    try:
        value = convert(given, kind)
        if CHECK in said and value != usual(one):
            said[CHECK](value)
    except ValidationError as wrong:
        raise _unfit(kind, given, place, str(wrong)) from None
    except ValueError as wrong:
        raise Unfit("value", place, str(wrong), given) from None
    return value


def _unfit(kind: Any, given: Any, place: Place, why: str) -> Unfit:
    """What is wrong with a value: with the first of its items that does not fit, if it may be several."""
    for one in (kind, *parts_of(kind)):
        items = given.items() if isinstance(given, dict) else enumerate(given) if isinstance(given, list) else ()
        if get_origin(one) is type(given):
            for name, item in items:
                inner = get_args(one)[-1]
                try:
                    convert(item, inner)
                except ValidationError as wrong:
                    return _unfit(inner, item, (*place, str(name)), str(wrong))
    words = [
        repr(word) for one in (kind, *parts_of(kind)) if get_origin(one) is Literal for word in get_args(one) if word
    ]
    if words:
        return Unfit("value", place, f"write {', '.join(words[:-1])} or {words[-1]}", given)
    return Unfit("value", place, why.replace(" | null", "").replace("object", "table"), given)  # as TOML has them


def _model(kind: Any) -> tuple[type[Settings] | None, bool]:
    """The table of settings that a type is, or may be; and whether there are several, each with a name."""
    for one in (kind, *parts_of(kind)):
        inner = get_args(one)[1] if get_origin(one) is dict else one
        if isinstance(inner, type) and issubclass(inner, Settings):
            return inner, inner is not one
    return None, False
