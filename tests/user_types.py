"""What type checkers tell users: mypy says so if one of these mistakes is let pass, for then its comment is not needed."""

from __future__ import annotations

from typing import assert_type

import pandas as pd

import plainstep


def typed(project: plainstep.Project) -> None:
    """Results are typed."""
    assert_type(project.step("tree")[0], plainstep.StepOutcome)
    assert_type(project.ledger("tree").to_pandas(), pd.DataFrame)
    assert_type(project.look("tree", after="yesterday").to_pandas(), pd.DataFrame)
    assert_type(project.net("tree").net, plainstep.NetChanges)
    assert_type(project.status()[0].exit_status, int)


def mistaken(project: plainstep.Project) -> None:
    """Mistakes are told."""
    plainstep.lod_project("plainstep.toml")  # type: ignore[attr-defined]
    project.stepp("tree")  # type: ignore[attr-defined]
    project.look("tree", upto_=3)  # type: ignore[call-arg]
    project.look("tree", after=[3])  # type: ignore[arg-type]
    assert project.step()[0].outcome != "steped"  # type: ignore[comparison-overlap]
