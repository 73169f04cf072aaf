"""A stream of Redis as a log. An entry's identifier is a time in milliseconds and a number: both together are its offset."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from datetime import datetime
from typing import TYPE_CHECKING, Any

from plainstep.deferred import redis
from plainstep.errors import ConfigError, Refused, StoreError
from plainstep.stores.streams.log import Bounds, Messages
from plainstep.stores.unreachable import no_answer

if TYPE_CHECKING:
    from redis import Redis

# Entries that are asked for at a time, at first and at most; and bytes that they should have, by the size of those before.
FIRST, BATCH, BYTES = 10, 10_000, 1 << 24
# Bits of the number that follows the time.
NUMBER = 64
# From this version on, a stream counts what was ever added to it: without that, nothing tells what was removed.
COUNTS_SINCE = 7


class StreamLog:
    """A stream.

    Args:
        client: the client.
        store: the store's name, for messages.
        key: the stream's key.
        field: the field of an entry that holds its value; empty: all fields are, as a document of texts.
    """

    is_numbered = False
    partition = ""

    def __init__(self, client: Redis, store: str, key: str, field: str) -> None:
        self.client, self.topic, self.field, self.place = client, key, field, f"{store}.{key}"

    def _asked(self, *command: Any) -> Any:
        """What the server answers, as it comes."""
        try:
            return self.client.execute_command(*command)  # type: ignore[no-untyped-call]
        except redis.exceptions.ResponseError as error:
            if "no such key" in str(error):
                raise ConfigError(f"There is no stream {self.place}.", "", "Check 'from' in the load.") from error
            raise StoreError(f"{self.place}: {error}.", "Nothing was written.", "Check 'from' in the load.") from error
        except redis.exceptions.AuthenticationError as error:
            raise StoreError(f"{self.place}: {error}.", "", "Check the user and the password in its URL.") from error
        except (redis.exceptions.ConnectionError, redis.exceptions.TimeoutError) as error:
            raise no_answer(self.place, error) from error

    def _info(self) -> dict[str, Any]:
        told = self._asked("XINFO", "STREAM", self.topic)
        found = told if isinstance(told, dict) else dict(zip(told[::2], told[1::2], strict=True))
        info = {name.decode() if isinstance(name, bytes) else name: value for name, value in found.items()}
        if "entries-added" not in info:
            raise Refused(
                f"The server of {self.place} is older than Redis {COUNTS_SINCE}.",
                "It does not tell what was removed before it was read.",
                f"Use a server of version {COUNTS_SINCE} or later.",
            )
        return info

    def bounds(self) -> Bounds:
        """From the first entry that is kept to the last that was made, as the server tells it now."""
        info = self._info()
        end = _offset(info["last-generated-id"]) + 1
        entry = info["first-entry"]
        first = _offset(entry[0]) if entry else end
        return Bounds(first, end, str(info["entries-added"]), info["entries-added"] == info["length"])

    def read(self, start: int, end: int, few: bool = False) -> Iterator[Messages]:
        """The entries in between.

        Raises:
            Refused: some were removed meanwhile.
        """
        last: Any = None
        count = 1 if few else FIRST
        while start < end:
            rows = self._asked("XRANGE", self.topic, _label(start), _label(end - 1), "COUNT", count)
            if last is not None:
                if not rows or rows[0][0] != last:  # trimming has come as far as this reading
                    raise Refused(
                        f"Entries of {self.place} were removed while they were read.",
                        "Some of them may not have been read. Nothing was merged.",
                        "Run the command again; if it says the same, have the stream keep more (MAXLEN).",
                    )
                rows = rows[1:]
            if not rows:
                break
            last = rows[-1][0]
            start = _offset(last) + (1 if few else 0)
            yield self._messages(rows)
            size = sum(sum(map(len, fields)) for _, fields in rows) // len(rows)
            count = max(2, min(BATCH, BYTES // (size + 1)))
            if few or start == end - 1:
                break

    def _messages(self, rows: list[Any]) -> Messages:
        found = Messages()
        for name, fields in rows:
            offset = _offset(name)
            pairs = list(zip(fields[::2], fields[1::2], strict=True))
            found.offsets.append(offset)
            found.keys.append(None)
            found.times.append((offset >> NUMBER) * 1000)
            if self.field:
                values = [value for one, value in pairs if one == self.field.encode()]
                # Of two values, none is the one: together they are no document.
                found.values.append(b"; ".join(values) if values else None)
                found.headers.append({one.decode(errors="replace"): value for one, value in pairs})
            else:
                found.values.append(_document(pairs))
        return found

    def label(self, offset: int) -> str:
        """The identifier of an entry."""
        return _label(offset)

    def parse(self, said: str) -> int:
        """An identifier, as a person wrote it."""
        return _offset(said.encode())

    def first(self) -> int:
        """The identifier of the first entry that is kept."""
        return self.bounds().first

    def holds(self, offset: int) -> bool:
        """No: its end is told exactly."""
        return False

    def mark(self, upto: int, first: int) -> str:
        """How many entries were added up to there: all that ever were, without those that came later."""
        while True:
            before = self._info()
            later = self._later(upto)
            if self._info() == before:
                return str(int(before["entries-added"]) - later)

    def _later(self, upto: int) -> int:
        """How many entries there are after an identifier."""
        count, start = 0, upto + 1
        while rows := self._asked("XRANGE", self.topic, _label(start), "+", "COUNT", BATCH):
            count, start = count + len(rows), _offset(rows[-1][0]) + 1
        return count

    def disagrees(self, mark: str, bounds: Bounds) -> bool:
        """Whether fewer entries were added than there were then: a stream that is made anew counts from the beginning."""
        return int(bounds.mark) < int(mark)

    def lacks(self, upto: int, mark: str, first: int) -> bool:
        """Whether fewer entries are there after an identifier than were added since.

        They are counted only where that is needed: a stream is mostly trimmed at its begin, far from where it is read.
        """
        info = self._info()
        added = int(info["entries-added"]) - int(mark)
        entry = info["first-entry"]
        if not entry or _offset(entry[0]) > upto:  # whatever is there came later
            return int(info["length"]) != added
        if _offset(info["max-deleted-entry-id"]) <= upto:  # and it was not trimmed up to here
            return False
        return self._later(upto) != int(self._info()["entries-added"]) - int(mark)

    def from_time(self, moment: datetime) -> int | None:
        """The identifier that the first entry after a time has at least: it begins with that time."""
        return (int(moment.timestamp() * 1000) + 1) << NUMBER


def _document(fields: list[tuple[bytes, bytes]]) -> bytes:
    """An entry's fields as a document of texts; one that stands there twice does so in the document, too, which is then refused.

    What is not text cannot be read, and is kept as it is.
    """
    try:
        texts = [f"{json.dumps(name.decode())}: {json.dumps(value.decode())}" for name, value in fields]
        return f"{{{', '.join(texts)}}}".encode()
    except UnicodeDecodeError:
        return b"\n".join(name + b"=" + value for name, value in fields)


def _offset(said: bytes) -> int:
    found = re.fullmatch(rb"(\d+)-(\d+)", said)
    if not found:
        raise ValueError("not an identifier")
    return (int(found[1]) << NUMBER) | int(found[2])


def _label(offset: int) -> str:
    return f"{offset >> NUMBER}-{offset & ((1 << NUMBER) - 1)}"
