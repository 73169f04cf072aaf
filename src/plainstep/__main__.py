"""``python -m plainstep`` and the ``plainstep`` command."""

from __future__ import annotations

import gc
import os
import sys
from typing import TYPE_CHECKING

from plainstep.deferred import deferred

if TYPE_CHECKING:
    from plainstep.cli import main as command_line
else:  # so that what it imports comes after the setting of the garbage collector
    [command_line] = deferred("plainstep.cli", "main")

# Objects made before garbage is looked for (Python: 700): what is imported is no garbage, and looking through it again and
# again takes 6% of the time of a ``look``.
OBJECTS_BETWEEN_COLLECTIONS = 20_000


class _WithoutPandas:
    """Lets nobody import pandas: no command uses it, and Arrow imports it, where it is installed, at the first array that is
    made of Python's values. That takes 250 ms, a third of a ``look``."""

    @staticmethod
    def find_spec(name: str, path: object = None, target: object = None) -> None:
        if name == "pandas":
            raise ModuleNotFoundError("The plainstep command does not use pandas.", name=name)


def main() -> None:
    """Run the command line."""
    # Pydantic comes with pyiceberg: no need for it to look for plugins in all packages that are installed.
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "1")
    gc.set_threshold(OBJECTS_BETWEEN_COLLECTIONS)
    sys.meta_path.insert(0, _WithoutPandas)
    try:
        command_line.cli(prog_name="plainstep")
    finally:
        # What is left is not garbage: to look through all of it once more at the end takes a fifth of a step with nothing to do.
        gc.freeze()


if __name__ == "__main__":
    main()
