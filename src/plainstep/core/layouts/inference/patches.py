"""Patches: beside the place of whole documents, another with paths of them that changed."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from typing import Any

from plainstep.core.layouts.inference.lives import ENOUGH
from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.proposal import Guess, Proposal
from plainstep.core.layouts.synonyms import GONE, OLD_WORDS, PATCHED
from plainstep.deferred import pa


@dataclass(frozen=True)
class Place:
    """Where objects or lists lie, and what is there in each row; None where nothing is."""

    path: str
    values: list[Any]


def find_patches(rows: Sample, seen: Proposal, operation: str, said: tuple[str, ...]) -> tuple[str, ...]:
    """The places of documents, of patches and of removed fields; empty where there are no patches.

    Patches name nothing that no document has, and no row has a document and a patch.
    """
    places = _objects(rows)
    names = [place.path for place in places]
    for path in rows.named(PATCHED, names):
        patch = next(place for place in places if place.path == path)
        for document in places:
            if _front(document.path) == _front(path) and document is not patch and _are_of(document, patch):
                return _told(rows, seen, operation, said, document, patch)
    return ()


def _told(
    rows: Sample, seen: Proposal, operation: str, said: tuple[str, ...], document: Place, patch: Place
) -> tuple[str, ...]:
    """Propose what was found, with the columns of the row where these do not all lie in the document by themselves."""
    patches = sum(bool(one) for one in patch.values)
    wholes = sum(one is not None for one in document.values)
    sure = patches >= ENOUGH and wholes >= ENOUGH
    why = f"{patches:,} rows have some fields of the documents that {wholes:,} other rows have"
    seen.guesses += [Guess("now", f"{document.path}.*", why, sure), Guess("patch", patch.path, why, sure)]
    removed = _removed(rows, document, patch)
    if removed:
        seen.guesses.append(Guess("removed", removed, "it lists fields of documents, in rows that have none", sure))
    taken = tuple(path for path in (document.path, patch.path, removed) if path)
    beside = [
        path
        for path in rows.leaves()
        if path != operation and not any(path == one or path.startswith(f"{one}.") for one in taken)
    ]
    inner = [path.removeprefix(f"{document.path}.") for path in rows.leaves() if path.startswith(f"{document.path}.")]
    keys = [path for path in beside if rows.there(path).all() and _comes_again(rows, path)]
    if len(said) < 2 and (said or any("." in path for path in [*inner, *keys])):
        _name_columns(seen, inner, keys, said)
    return taken


def _name_columns(seen: Proposal, inner: list[str], keys: list[str], said: tuple[str, ...]) -> None:
    """Propose names for columns that lie deeper, and for the key, which stands beside the document."""
    if not keys:
        return
    known = [key for key in keys if said and key.rpartition(".")[2] == said[0]] or keys
    name = said[0] if said else known[0].rpartition(".")[2]
    lasts = [path.rpartition(".")[2] for path in inner]
    columns = {name: known[0]}
    for path, last in zip(inner, lasts, strict=True):
        columns[last if lasts.count(last) == 1 and last != name else re.sub(r"\W", "_", path)] = path
    sure = len(known) == 1
    why = f"{known[0]} comes again, and stands beside the documents" + ("" if sure else f", as does {known[1]}")
    seen.guesses.append(Guess("columns", columns, why, sure))
    seen.key = Guess("key", [name], why, sure)


def _are_of(document: Place, patch: Place) -> bool:
    """Whether these are patches of those documents."""
    heads = {name for one in document.values for name in one or ()}
    told = {name.split(".")[0] for one in patch.values for name in one or ()}
    apart = not any(one is not None and other for one, other in zip(document.values, patch.values, strict=True))
    # What is in each of them whole is no patch; and the name of an old value says what it is.
    partial = any(one and len({name.split(".")[0] for name in one}) < len(heads) for one in patch.values)
    return bool(told) and told <= heads and apart and partial and document.path.rpartition(".")[2] not in OLD_WORDS


def _removed(rows: Sample, document: Place, patch: Place) -> str:
    """Where fields are listed that are gone."""
    heads = {name for one in document.values for name in one or ()}
    beside = [path for path in rows.leaves() if _front(path) == _front(patch.path)]
    for path in rows.named(GONE, beside):
        lists = [_parsed(text) for text in rows.texts(path)]
        words = [word for one in lists for word in one or () if isinstance(one, list)]
        if not words or any(one is not None and not isinstance(one, list) for one in lists):
            continue
        fits = all(isinstance(word, str) and word.split(".")[0] in heads for word in words)
        if fits and not any(one and other is not None for one, other in zip(lists, document.values, strict=True)):
            return path
    return ""


def _objects(rows: Sample) -> list[Place]:
    """Every place of objects, at any depth."""
    paths = {front for path in rows.fields for front in _fronts(path)}
    rows.raw.read(dict.fromkeys(paths, pa.string()), paths)
    found = [
        (path, [_parsed(text) for text in rows.raw.typed(path, pa.string()).to_pylist()]) for path in sorted(paths)
    ]
    return [
        Place(path, values) for path, values in found if all(one is None or isinstance(one, dict) for one in values)
    ]


def _fronts(path: str) -> list[str]:
    parts = path.split(".")
    return [".".join(parts[:depth]) for depth in range(1, len(parts))]


def _front(path: str) -> str:
    return path.rpartition(".")[0]


def _parsed(text: str | None) -> Any:
    try:
        return None if text is None else json.loads(text)
    except ValueError:
        return text


def _comes_again(rows: Sample, path: str) -> bool:
    texts = rows.texts(path)
    return 1 < len({*texts}) < len(texts)
