"""Modules that take long to import, imported when something of them is first used: libraries, and parts of our own.

``plainstep --help`` and a step that finds nothing to do need none of them: numpy, pyarrow and its compute functions take
as long as all the rest of such a step. Those of an extra need not even be installed until then. Of our own, a step needs one
shape, one kind of source and one kind of store: not having the others saves it 60 ms of 480 (benchmarks/startup.py).
"""

from __future__ import annotations

from importlib import import_module
from importlib.util import find_spec
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import zoneinfo

    import confluent_kafka as kafka
    import duckdb
    import duckdb as duckdb_library
    import fastavro
    import httpx
    import nats
    import numpy as np
    import numpy.typing as npt
    import obstore
    import pandas as pd
    import pika
    import pyarrow as pa
    import pyarrow.compute as pc
    import pyarrow.csv as pacsv
    import pyarrow.json as pajson
    import pyarrow.parquet as pq
    import pyroaring
    import redis
    import sqlalchemy
    import tenacity
    from google import protobuf


class _Deferred:
    """Stands for a module until something of it is asked for."""

    def __init__(self, module: str) -> None:
        self._module = module

    def __getattr__(self, name: str) -> Any:
        value = getattr(import_module(self._module), name)
        setattr(self, name, value)  # the next use finds it here, at no cost
        return value


def deferred(package: str, *names: str) -> tuple[Any, ...]:
    """Modules of a package, each imported when something of it is first used.

    Say them under ``TYPE_CHECKING``, too, so that types and arrows are known.
    """
    return tuple(_Deferred(f"{package}.{name}") for name in names)


if not TYPE_CHECKING:
    duckdb, fastavro, httpx, kafka, nats, np, npt, obstore, pd, pa, pc, pacsv, pajson, pika, pq, protobuf, pyroaring, redis, sqlalchemy, tenacity, zoneinfo = map(
        _Deferred,
        (
            "duckdb", "fastavro", "httpx", "confluent_kafka", "nats", "numpy", "numpy.typing", "obstore", "pandas", "pyarrow", "pyarrow.compute", "pyarrow.csv",
            "pyarrow.json", "pika", "pyarrow.parquet", "google.protobuf", "pyroaring", "redis", "sqlalchemy", "tenacity", "zoneinfo",
        ),
    )  # fmt: skip
    # The library within DuckDB's package, which connects and runs statements. What the package adds to it, relations and Arrow, takes three
    # times as long to import: a step that finds nothing to do does without.
    duckdb_library = _Deferred("_duckdb") if find_spec("_duckdb") else duckdb

__all__ = [
    "deferred",
    "duckdb",
    "duckdb_library",
    "fastavro",
    "httpx",
    "kafka",
    "nats",
    "np",
    "npt",
    "obstore",
    "pa",
    "pacsv",
    "pajson",
    "pc",
    "pd",
    "pika",
    "pq",
    "protobuf",
    "pyroaring",
    "redis",
    "sqlalchemy",
    "tenacity",
    "zoneinfo",
]
