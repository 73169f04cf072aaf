"""Deletion vectors: which rows of a file are deleted, as numbers of rows in a compressed bitmap.

After the documentation of the format: the vector stands in the log itself (in Z85), or in a file, whose name is made of a UUID.
"""

from __future__ import annotations

import base64
import struct
import zlib
from collections.abc import Callable
from typing import Any
from uuid import UUID

from plainstep.core.arrays import Ints
from plainstep.deferred import np, pyroaring
from plainstep.errors import DataError

MAGIC = 1_681_511_377
INLINE, BY_UUID, BY_PATH = "i", "u", "p"
# Letters of a UUID in Z85, which stand last; before them stands a folder.
UUID_LETTERS = 20
Z85 = b"0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ.-:+=^!/*?&<>()[]{}@%$#"
B85 = b"0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz!#$%&()*+-;<=>?@^_`{|}~"


def deleted_rows(vector: dict[str, Any], read: Callable[[str], bytes], place: str) -> Ints:
    """The numbers of the rows that are deleted, rising from 0 for the first row of the file.

    Args:
        vector: what the log says of it.
        read: reads a file by its name, from where the table begins.
        place: the table, for messages.

    Raises:
        DataError: it is damaged.
        FileNotFoundError: its file is gone.
    """
    try:
        data = _data(vector, read)
        if struct.unpack_from("<I", data)[0] != MAGIC:
            raise ValueError("it does not begin as one does")
        found = np.array(pyroaring.BitMap64.deserialize(data[4:]).to_array(), dtype=np.int64)
    except FileNotFoundError:
        raise
    except (ValueError, struct.error, LookupError) as error:
        raise DataError(
            f"A deletion vector of {place} cannot be read: {error}.", "Which rows are there is not known."
        ) from error
    if len(found) != vector["cardinality"]:
        raise DataError(
            f"A deletion vector of {place} has {len(found):,} rows, and should have {vector['cardinality']:,}."
        )
    return found


def _data(vector: dict[str, Any], read: Callable[[str], bytes]) -> bytes:
    kind, where = vector["storageType"], vector["pathOrInlineDv"]
    if kind == INLINE:
        return _z85(where)[: vector["sizeInBytes"]]
    if kind not in (BY_UUID, BY_PATH):
        raise ValueError(f"it is kept in a way {kind!r} that is not known")
    whole = read(where if kind == BY_PATH else name_of(where))
    at, size = vector.get("offset") or 0, vector["sizeInBytes"]
    if struct.unpack_from(">I", whole, at)[0] != size:
        raise ValueError("its file does not say its size")
    data = whole[at + 4 : at + 4 + size]
    if struct.unpack_from(">I", whole, at + 4 + size)[0] != zlib.crc32(data):
        raise ValueError("its checksum is wrong")
    return data


def name_of(where: str) -> str:
    """The name of the file of a vector, from where the table begins."""
    folder, letters = where[:-UUID_LETTERS], where[-UUID_LETTERS:]
    name = f"deletion_vector_{UUID(bytes=_z85(letters))}.bin"
    return f"{folder}/{name}" if folder else name


def _z85(text: str) -> bytes:
    return base64.b85decode(text.encode().translate(bytes.maketrans(Z85, B85)))


def packed(rows: Ints) -> bytes:
    """Numbers of rows as a vector."""
    return struct.pack("<I", MAGIC) + bytes(pyroaring.BitMap64(rows.tolist()).serialize())


def inline(data: bytes, count: int) -> dict[str, Any]:
    """A vector that stands in the log, as the log says it."""
    letters = base64.b85encode(data + bytes(-len(data) % 4)).translate(bytes.maketrans(B85, Z85)).decode()
    return {"storageType": INLINE, "pathOrInlineDv": letters, "sizeInBytes": len(data), "cardinality": count}


def in_file(data: bytes, count: int, name: UUID) -> tuple[bytes, dict[str, Any]]:
    """What a file holds that is a vector, and the vector as the log says it."""
    body = b"\x01" + struct.pack(">I", len(data)) + data + struct.pack(">I", zlib.crc32(data))
    letters = base64.b85encode(name.bytes).translate(bytes.maketrans(B85, Z85)).decode()
    said = {
        "storageType": BY_UUID,
        "pathOrInlineDv": letters,
        "offset": 1,
        "sizeInBytes": len(data),
        "cardinality": count,
    }
    return body, said
