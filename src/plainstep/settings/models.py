"""What plainstep.toml may say."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

from plainstep.core.sizes import size_of
from plainstep.settings.fields import length_of_time
from plainstep.settings.load import LoadConfig

# The least that a process can be told to keep to.
LEAST_MEMORY = 512 << 20


class StoreConfig(BaseModel):
    """``[stores.NAME]``: a place with a URL."""

    model_config = ConfigDict(extra="forbid")

    url: str = Field(
        description="sqlite:///FILE, duckdb:///FILE, postgresql://USER@HOST/DATABASE or file:///FOLDER; ${NAME} takes a value from the environment."
    )
    wait: float = Field(
        default=10.0,
        ge=0,
        description="How many seconds to wait for a lock, or for a server that went away, before giving up.",
    )
    keep: str = Field(
        default="",
        description="How long captured changes are kept at least, as in 72h: trim keeps what is younger.",
    )

    @field_validator("keep")
    @classmethod
    def _is_a_length_of_time(cls, value: str) -> str:
        return length_of_time(value) if value else value


class GroupConfig(BaseModel):
    """``[groups.NAME]``: loads that step together."""

    model_config = ConfigDict(extra="forbid")

    loads: list[str] = Field(
        min_length=1,
        description="Loads of one captured store into one other store, which step to one moment and in one commit. "
        "Parents come before their children: rows arrive in this order and leave in reverse.",
    )


class EngineConfig(BaseModel):
    """``[engine]``: what the work is done with."""

    model_config = ConfigDict(extra="forbid")

    kind: Literal["local", "spark"] = Field(
        default="local",
        description="What steps loads: this process (local), or the executors of a Spark cluster (spark).",
    )
    master: str = Field(default="local[*]", description="Spark's master, as in spark://host:7077.")
    options: dict[str, str] = Field(
        default_factory=dict, description='What is said to Spark besides, as in { "spark.executor.memory" = "4g" }.'
    )
    memory: str = Field(
        default="",
        description="How much memory the process may take, as in 1GiB; what does not fit goes to disk. Default: half of the machine's.",
    )
    scratch: str = Field(
        default="",
        description="The folder for what does not fit in memory. Default: the system's for temporary files (TMPDIR).",
    )

    @field_validator("memory")
    @classmethod
    def _is_enough(cls, value: str) -> str:
        if value and size_of(value) < LEAST_MEMORY:
            raise ValueError("that is too little: the libraries alone take half of 512MiB; write that or more")
        return value


class Config(BaseModel):
    """A whole plainstep.toml."""

    model_config = ConfigDict(extra="forbid", title="plainstep.toml")

    stores: dict[str, StoreConfig]
    loads: dict[str, LoadConfig] = {}
    groups: dict[str, GroupConfig] = {}
    engine: EngineConfig = EngineConfig()


def config_schema() -> dict[str, Any]:
    """The JSON Schema of plainstep.toml, for editors."""
    return Config.model_json_schema(by_alias=True)
