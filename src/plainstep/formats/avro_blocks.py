"""Avro files, unpacked within bounds: the blocks of a file as those of one that is not packed."""

from __future__ import annotations

import bz2
import io
import lzma
import zlib
from collections.abc import Iterator
from typing import Any

from plainstep.deferred import fastavro, pa
from plainstep.formats.limits import refuse_unpacked
from plainstep.formats.lines import damaged

MAGIC, SYNC = b"Obj\x01", 16
META = {"type": "map", "values": "bytes"}
# Bytes of one block, unpacked. (Writers make blocks of some 64 KiB, or of one record; a list of small numbers takes some thirty
# times as much memory while it is read.)
BLOCK = 1 << 25


class Unpacked(io.RawIOBase):
    """An Avro file as one that is not packed.

    Args:
        stream: the file.
        packed: its size.
        shown: its name, for messages.

    Attributes:
        size: how many bytes of blocks were read so far, unpacked.
    """

    def __init__(self, stream: Any, packed: int, shown: str) -> None:
        self.stream, self.packed, self.shown, self.size = stream, packed, shown, 0
        self._parts = self._pieces()
        self._rest = memoryview(b"")

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        into = memoryview(buffer)
        while not self._rest:
            piece = next(self._parts, None)
            if piece is None:
                return 0
            self._rest = memoryview(piece)
        count = min(len(into), len(self._rest))
        into[:count], self._rest = self._rest[:count], self._rest[count:]
        return count

    def _pieces(self) -> Iterator[bytes]:
        if self.stream.read(len(MAGIC)) != MAGIC:
            raise damaged(self.shown, "it does not begin as an Avro file does")
        meta = fastavro.schemaless_reader(self.stream, META, None)
        assert isinstance(meta, dict)
        codec = meta.get("avro.codec", b"null").decode()
        head = io.BytesIO()
        fastavro.schemaless_writer(head, META, meta | {"avro.codec": b"null"})
        sync = self.stream.read(SYNC)
        yield MAGIC + head.getvalue() + sync
        while (count := self._number()) is not None:
            length = self._number() or 0
            if not 0 <= length <= self.packed:
                raise damaged(self.shown, f"a block says that it has {length:,} bytes")
            data = _unpacked(self.stream.read(length), codec, self.shown)
            self.size += len(data)
            refuse_unpacked(self.size, self.packed, self.shown)
            if self.stream.read(SYNC) != sync:
                raise damaged(self.shown, "a block does not end where it says")
            yield _zigzag(count) + _zigzag(len(data)) + data + sync

    def _number(self) -> int | None:
        """The next number, as Avro writes numbers; None at the end."""
        found = shift = 0
        while byte := self.stream.read(1):
            found |= (byte[0] & 0x7F) << shift
            shift += 7
            if not byte[0] & 0x80:
                return (found >> 1) ^ -(found & 1)
            if shift > 63:
                raise damaged(self.shown, "a block begins with no number")
        return None


def _zigzag(number: int) -> bytes:
    rest, out = (number << 1) ^ (number >> 63), bytearray()
    while rest & ~0x7F:
        out.append((rest & 0x7F) | 0x80)
        rest >>= 7
    return bytes([*out, rest])


def _unpacked(data: bytes, codec: str, shown: str) -> bytes:
    """A block's bytes.

    Raises:
        DataError: they are too many, or packed in a way that is not known.
    """
    if codec == "null":
        found = data
    elif codec == "deflate":
        found = zlib.decompressobj(-15).decompress(data, BLOCK + 1)
    elif codec == "bzip2":
        found = bz2.BZ2Decompressor().decompress(data, BLOCK + 1)
    elif codec == "xz":
        found = lzma.LZMADecompressor().decompress(data, BLOCK + 1)
    elif codec == "snappy":
        found = _snappy(data, shown)
    elif codec == "zstandard":
        found = pa.input_stream(pa.BufferReader(data), compression="zstd").read(BLOCK + 1)
    else:
        raise damaged(shown, f"it is packed by {codec!r}, which is not known here")
    if len(found) > BLOCK:
        raise damaged(shown, f"a block is larger than {BLOCK >> 20} MiB")
    return bytes(found)


def _snappy(data: bytes, shown: str) -> bytes:
    """A block of Snappy's: it says first how many bytes it unpacks to, and ends with a checksum of four bytes."""
    size = shift = 0
    for byte in data[:5]:
        size |= (byte & 0x7F) << shift
        shift += 7
        if not byte & 0x80:
            break
    if size > BLOCK:
        raise damaged(shown, f"a block is larger than {BLOCK >> 20} MiB")
    found = pa.decompress(data[:-4], decompressed_size=size, codec="snappy", asbytes=True)
    if zlib.crc32(found) != int.from_bytes(data[-4:], "big"):
        raise damaged(shown, "a block is not what its checksum says")
    return bytes(found)


def refuse_endless(schema: Any, shown: str) -> None:
    """Refuse a schema by which a few bytes are any number of values: records, or items of a list, that take no byte.

    Raises:
        DataError: it is one.
    """
    if not _least(schema, {}, shown):
        raise damaged(shown, "its records hold nothing")


def _least(kind: Any, named: dict[str, int], shown: str) -> int:
    """How many bytes a value of a type takes at least."""
    if isinstance(kind, list):  # a union tells first which of its types it is
        return max([1, *(_least(one, named, shown) for one in kind)])
    if isinstance(kind, str):
        return named.get(kind, 0 if kind == "null" else 1)
    if "name" in kind:
        named[kind["name"]] = 1  # while it is looked at: within itself, it stands in a list or a union
    found = _least_of(kind, named, shown)
    if "name" in kind:
        named[kind["name"]] = found
    return found


def _least_of(kind: dict[str, Any], named: dict[str, int], shown: str) -> int:
    """The same of a type with parts."""
    if kind["type"] == "record":
        return sum(_least(field["type"], named, shown) for field in kind["fields"])
    if kind["type"] == "fixed":
        return int(kind["size"])
    if kind["type"] == "array":
        if not _least(kind["items"], named, shown):
            raise damaged(shown, "it has a list whose items hold nothing")
        return 1
    if kind["type"] == "map":
        _least(kind["values"], named, shown)
        return 1
    return _least(kind["type"], named, shown)
