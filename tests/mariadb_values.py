"""A table with a column of every type of MariaDB, and rows for it."""

from __future__ import annotations

import random
import uuid
from collections.abc import Callable
from decimal import Decimal
from typing import Any

EVERY = """CREATE TABLE tree (k INT UNSIGNED PRIMARY KEY, i1 TINYINT, u1 TINYINT UNSIGNED, u2 SMALLINT UNSIGNED, i3 MEDIUMINT, u3 MEDIUMINT UNSIGNED,
i4 INT, u4 INT UNSIGNED ZEROFILL, i8 BIGINT, u8 BIGINT UNSIGNED, d DECIMAL(12,3), big DECIMAL(60,2), d2 DECIMAL(20,10), d3 DECIMAL(5,5),
f FLOAT, g DOUBLE, yes BOOLEAN, bits BIT(9), y YEAR, dt DATE, tm TIME(3), dtm DATETIME(6), dt0 DATETIME, dt3 DATETIME(3), ts TIMESTAMP(6) NULL,
ts0 TIMESTAMP NULL, c CHAR(5), cl CHAR(200), v VARCHAR(40) CHARACTER SET latin1, v2 VARCHAR(300), u16 VARCHAR(20) CHARACTER SET utf16, t MEDIUMTEXT,
tt TINYTEXT, bin BINARY(4), vb VARBINARY(9), bl BLOB, e ENUM('park','street ''x'''), s SET('a','b'), j JSON, u UUID, ip INET6, ip4 INET4,
gen INT GENERATED ALWAYS AS (i4 + 1) STORED, virt INT GENERATED ALWAYS AS (i4 + 2) VIRTUAL) CHARACTER SET utf8mb4"""
Make = Callable[[random.Random], Any]


def _one_of(*values: Any) -> Make:
    return lambda chance: chance.choice(values)


def _number(low: int, high: int) -> Make:
    return lambda chance: chance.randrange(low, high)


def _decimal(digits: int, scale: int) -> Make:
    return lambda chance: Decimal(chance.randrange(-(10**digits) + 1, 10**digits)).scaleb(-scale)


def _uuids(chance: random.Random) -> str:
    kept = chance.getrandbits(128) & ~(0xF << 76) & ~(3 << 62) | 2 << 62
    return str(uuid.UUID(int=chance.choice([0, kept | 1 << 76, kept | 4 << 76, kept | 5 << 76, kept | 7 << 76])))


# What stands in each column, but for nulls.
MADE: dict[str, Make] = {
    "k": _number(0, 60),
    "i1": _number(-128, 128), "u1": _number(0, 256), "u2": _number(0, 65536), "i3": _number(-(2**23), 2**23), "u3": _number(0, 2**24),
    "i4": _number(-(2**31), 2**31 - 3), "u4": _number(0, 2**32), "i8": _number(-(2**63), 2**63), "u8": _number(0, 2**64),
    "d": _decimal(12, 3), "big": lambda chance: f"{chance.choice([1, -1]) * chance.randrange(10 ** chance.randrange(1, 58))}.{chance.randrange(100):02}",
    "d2": _decimal(20, 10), "d3": _decimal(5, 5), "f": lambda chance: chance.uniform(-1e6, 1e6), "g": lambda chance: chance.uniform(-1e300, 1e300),
    "yes": _one_of(True, False), "bits": _number(0, 512), "y": _one_of(0, 1901, 2155), "dt": _one_of("1000-01-01", "9999-12-31", "2024-02-29", "1969-12-31"),
    "tm": _one_of("00:00:00", "23:59:59.999", "12:34:56.7"), "dtm": _one_of("1000-01-01 00:00:00.000001", "9999-12-31 23:59:59.999999"),
    "dt0": _one_of("2000-01-01 00:00:00", "1969-12-31 23:59:59"), "dt3": _one_of("2000-01-01 00:00:00.123", "1969-12-31 23:59:59.999"),
    "ts": _one_of("1970-01-01 00:00:01", "2038-01-19 03:14:07.999999"), "ts0": _one_of("1970-01-01 00:00:01", "2037-01-19 03:14:07"),
    "c": _one_of("", "ab", "abcde", " x"), "cl": lambda chance: "é" * chance.randrange(200), "v": _one_of("", "Größe", "€"),
    "v2": lambda chance: "x" * chance.randrange(300), "u16": _one_of("", "木a"), "t": lambda chance: "木" * chance.randrange(70_000),
    "tt": lambda chance: "y" * chance.randrange(255), "bin": _one_of(b"", b"\0a\0\0", b"abcd"), "vb": _one_of(b"", b"\0\xff"),
    "bl": _one_of(b"", b"\xff" * 300), "e": _one_of("park", "street 'x'"), "s": _one_of("", "a", "b", "a,b"), "j": _one_of('{"a": 1.50}'),
    "u": _uuids, "ip": _one_of("::1", "::ffff:1.2.3.4", "2001:db8::1", "::"), "ip4": _one_of("0.0.0.0", "255.1.2.3"),
}  # fmt: skip


def made(chance: random.Random, key: int) -> list[Any]:
    """A row of values of every type, some of them null."""
    values = (None if chance.random() < 0.2 else make(chance) for name, make in MADE.items() if name != "k")
    return [key, *values]
