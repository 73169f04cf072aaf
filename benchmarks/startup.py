"""How long it takes to say nothing: help, and a step with nothing to do, as a process and in the library."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

import plainstep
from benchmarks import best_of, row
from plainstep.demo import town


def process(*words: str, folder: Path) -> None:
    subprocess.run([sys.executable, "-m", "plainstep", *words], cwd=folder, check=True, capture_output=True)


def main() -> None:
    print("\nstart-up (best of 10)\n")
    row("", "measured", "wanted")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        town.build(folder)
        project = plainstep.load_project(folder / "plainstep.toml")
        project.capture_on("town.tree")
        project.step("tree")
        [helped, stepped, bare] = best_of(
            10,
            lambda: process("--help", folder=folder),
            lambda: process("step", "tree", folder=folder),
            lambda: subprocess.run([sys.executable, "-c", "pass"], check=True),
        )
        [again] = best_of(20, lambda: project.step("tree"))
    row("python -c pass", f"{bare * 1000:.0f} ms", "")
    row("plainstep --help", f"{helped * 1000:.0f} ms", "200 ms")
    row("plainstep step, nothing to do", f"{stepped * 1000:.0f} ms", "250 ms")
    row("project.step(), nothing to do", f"{again * 1000:.1f} ms", "20 ms")


if __name__ == "__main__":
    main()
