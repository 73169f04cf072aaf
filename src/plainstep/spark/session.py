"""Spark's context, which a process has one of: begun when a step first needs it."""

from __future__ import annotations

import atexit
import os
import sys
import tempfile
import threading
import warnings
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from importlib.resources import files
from typing import IO, Any
from urllib.parse import urlsplit

from plainstep.deferred import deferred
from plainstep.errors import LostConnection, PlainStepError, StoreError, need

pyspark, gateways, spark_errors = deferred("pyspark", "context", "java_gateway", "errors")

# What is set where the project does not say otherwise: no page for people, no bars of its own; and where its process here runs out of
# memory, that it ends: it would wait for ever.
SETTINGS = {
    "spark.ui.enabled": "false", "spark.ui.showConsoleProgress": "false", "spark.log.level": "ERROR",
    "spark.locality.wait": "100ms", "spark.driver.extraJavaOptions": "-XX:+ExitOnOutOfMemoryError",
    # For so long, what it holds for Python waits to be fetched: on a busy machine, 15 seconds went by once.
    "spark.python.authenticate.socketTimeout": "120s",
}  # fmt: skip
# Lines of what Spark said that are told where it fails.
LINES = 3

_alone = threading.Lock()
_said: list[IO[bytes]] = []


def session(master: str, options: Mapping[str, str]) -> Any:
    """Spark's context.

    Args:
        master: its master, as ``local[*]`` or ``spark://host:7077``.
        options: what is said to it besides, by its own names.

    Raises:
        StoreError: it is not installed, lacks Java, or its master cannot be reached.
    """
    need("pyspark", "spark", "[engine] kind = 'spark' runs steps on Spark")
    with _alone, told_as_ours(master), warnings.catch_warnings():
        warnings.simplefilter("ignore", FutureWarning)  # of versions of pandas, which nothing here uses through Spark
        found = pyspark.SparkContext._active_spark_context
        if found is not None and not found._jsc.sc().isStopped():
            return found
        if found is not None:  # the master let go of it
            found.stop()
        return _begun(master, options)


def _begun(master: str, options: Mapping[str, str]) -> Any:
    os.environ.setdefault("PYSPARK_PYTHON", sys.executable)
    if master.startswith("local") or urlsplit(master).hostname in ("127.0.0.1", "localhost"):
        os.environ.setdefault("SPARK_LOCAL_IP", "127.0.0.1")
    quiet = f"-Dlog4j2.configurationFile={files('plainstep.spark') / 'log4j2.properties'}"
    os.environ.setdefault("SPARK_SUBMIT_OPTS", quiet)
    said = tempfile.TemporaryFile()  # noqa: SIM115 (it lives as long as Spark's process writes to it)
    _said[:] = [said]
    settings = [*SETTINGS.items(), *options.items()]
    conf = pyspark.SparkConf().setMaster(master).setAppName("plainstep").setAll(settings)
    # What its processes print is not ours to print: it is told where Spark fails.
    gateway = pyspark.SparkContext._gateway or gateways.launch_gateway(conf, {"stdout": said, "stderr": said})
    found = pyspark.SparkContext(conf=conf, gateway=gateway)
    atexit.register(found.stop)
    return found


@contextmanager
def told_as_ours(master: str) -> Iterator[None]:
    """Meanwhile, what Spark raises is told as an error of ours.

    Raises:
        LostConnection: what it holds could not be fetched.
        StoreError: it failed in another way. Nothing was merged.
    """
    try:
        yield
    except PlainStepError:
        raise
    except Exception as error:
        # What it raises may be hidden by what its cleaning up raises.
        found = next((one for one in (error, error.__context__) if _is_of_spark(one)), None)
        if found is None:
            raise
        lost = isinstance(found, spark_errors.PySparkException) and found.getCondition() == "CANNOT_OPEN_SOCKET"
        raise (LostConnection if lost else StoreError)(
            f"Spark on {master} failed: {_told(found)}",
            "Nothing was merged. It needs Java 17 or later, and executors on which plainstep is installed as it is here.",
            "Fix [engine] in plainstep.toml, or step without it: plainstep step --engine local",
        ) from error


def _is_of_spark(error: BaseException | None) -> bool:
    return type(error).__module__.startswith(("pyspark", "py4j"))


def _told(error: BaseException) -> str:
    """What Spark says, in a line: what an executor raised, if one did; or the last that its processes printed."""
    lines = [line.strip() for line in str(error).splitlines() if line.strip()]
    causes = [line for line in lines if line.startswith("Caused by:") or "Error:" in line or "Exception:" in line]
    if not causes and _said:
        with suppress(OSError, ValueError):
            _said[0].seek(0)
            lines = _said[0].read().decode(errors="replace").strip().splitlines()
            causes = lines[-LINES:]
    return " ".join(causes or lines)[-300:]
