"""What plainstep.toml may say."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field


class StoreConfig(BaseModel):
    """``[stores.NAME]``: a place with a URL."""

    model_config = ConfigDict(extra="forbid")

    url: str = Field(
        description="sqlite:///FILE, duckdb:///FILE or postgresql://USER@HOST/DATABASE; ${NAME} takes a value from the environment."
    )
    wait: float = Field(
        default=10.0,
        ge=0,
        description="How many seconds to wait for a lock, or for a server that went away, before giving up.",
    )


class LoadConfig(BaseModel):
    """``[loads.NAME]``: from one source table into one target table."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    source: str = Field(alias="from", description="STORE.TABLE to read changes of.")
    into: str = Field(description="STORE.TABLE to merge into; made when it is not there.")
    key: list[str] = Field(default=[], description="The columns that tell rows apart; default: the captured key.")
    changes: Literal["capture", "log"] = Field(
        default="capture",
        description="How changes are read: from tables that triggers fill, or from the server's own log.",
    )
    first: Literal["snapshot", "beginning", "head"] = Field(
        default="snapshot",
        description="The first step: the whole table, every change since capture began, or only what comes next.",
    )
    shape: Literal["mirror"] = Field(default="mirror", description="What the target is.")
    deletes: Literal["drop", "ignore"] = Field(default="drop", description="What a delete does to the target.")
    strict: bool = Field(default=False, description="Refuse contradictions instead of counting them.")
    types: dict[str, str] = Field(
        default={}, description="What a column holds, where its declared type does not say or is not kept to."
    )


class Config(BaseModel):
    """A whole plainstep.toml."""

    model_config = ConfigDict(extra="forbid", title="plainstep.toml")

    stores: dict[str, StoreConfig]
    loads: dict[str, LoadConfig] = {}


def config_schema() -> dict[str, Any]:
    """The JSON Schema of plainstep.toml, for editors."""
    return Config.model_json_schema(by_alias=True)
