"""All tests, a class at a time, in as many processes as there are cores: python -m tests [NAME...]

What is told is the text of each class that failed, and a last line as ``python -m unittest`` has it.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import time
import unittest
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

# These take longest, and begin first.
LONG = (
    "test_postgres",
    "test_conformance",
    "test_crashes",
    "test_shapes",
    "test_scope",
    "test_archive",
    "test_groups",
    "test_layouts",
    "test_steps",
    "test_files",
)


def classes(suite: unittest.TestSuite) -> Iterator[str]:
    """The names of all test classes, in the order in which they are found."""
    for test in suite:
        if isinstance(test, unittest.TestSuite):
            yield from classes(test)
        else:
            kind = type(test)
            failed = kind.__module__ == "unittest.loader"  # a module that cannot be imported, by its own name
            yield test.id().rpartition(".")[2] if failed else f"{kind.__module__}.{kind.__qualname__}"


def urgency(name: str) -> int:
    """Where a class stands in the order."""
    return next((place for place, long in enumerate(LONG) if long in name), len(LONG))


def fast_folder() -> dict[str, str]:
    """Where tests make their files: in memory, if there is room, so that nothing waits for a disk."""
    shared = Path("/dev/shm")
    roomy = shared.is_dir() and os.access(shared, os.W_OK) and shutil.disk_usage(shared).free > 4 << 30
    return {"TMPDIR": str(shared)} if roomy and "TMPDIR" not in os.environ else {}


def run(name: str) -> tuple[str, float, Counter[str]]:
    """Run one class in a process of its own; its output if it failed, how long it took, and its counts."""
    began = time.monotonic()
    words = [sys.executable, "-m", "unittest", "-q", name]
    done = subprocess.run(words, capture_output=True, text=True, check=False, env=os.environ | fast_folder())
    said = done.stderr + done.stdout
    ran = re.search(r"^Ran (\d+) tests?", said, re.MULTILINE)
    counts = Counter({"ran": int(ran[1]) if ran else 0})
    for what, number in re.findall(r"(failures|errors|skipped)=(\d+)", said.rpartition("\n")[0].rpartition("Ran ")[2]):
        counts[what] += int(number)
    if done.returncode and not counts["failures"] + counts["errors"]:
        counts["errors"] += 1  # it was killed, or could not begin
    shown = said if done.returncode or counts["skipped"] else ""
    return shown, time.monotonic() - began, counts


def main(names: list[str]) -> int:
    """Run the tests, or those that are named; the exit status."""
    began = time.monotonic()
    loader = unittest.defaultTestLoader
    suite = loader.loadTestsFromNames(names) if names else loader.discover("tests", top_level_dir=".")
    found = sorted(dict.fromkeys(classes(suite)), key=urgency)
    if names:
        found = names
    every: Counter[str] = Counter()
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        for name, (said, seconds, counts) in zip(found, pool.map(run, found), strict=True):
            every += counts
            print(f"{seconds:7.1f} s  {counts['ran']:3d} tests  {name}", flush=True)
            if said:
                print(said, flush=True)
    print(f"{'-' * 70}\nRan {every['ran']} tests in {time.monotonic() - began:.3f}s\n")
    told = ", ".join(f"{what}={every[what]}" for what in ("failures", "errors", "skipped") if every[what])
    bad = every["failures"] + every["errors"]
    print(("FAILED" if bad else "OK") + (f" ({told})" if told else ""))
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
