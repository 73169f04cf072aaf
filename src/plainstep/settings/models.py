"""What plainstep.toml may say."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from msgspec import field, json

from plainstep.settings import checks
from plainstep.settings.fields import ONE_OF_MANY, Settings, fields_of, said_of, setting
from plainstep.settings.load import LoadConfig


class StoreConfig(Settings):
    """``[stores.NAME]``: a place with a URL."""

    url: Annotated[
        str,
        setting(
            "sqlite:///FILE, duckdb:///FILE, postgresql://USER@HOST/DATABASE or file:///FOLDER; ${NAME} takes a value from the environment."
        ),
    ]
    wait: Annotated[
        float, setting("How many seconds to wait for a lock, or for a server that went away, before giving up.", ge=0)
    ] = 10.0
    keep: Annotated[
        str,
        setting(
            "How long captured changes are kept at least, as in 72h: trim keeps what is younger.",
            checks.length_of_time,
        ),
    ] = ""


class GroupConfig(Settings):
    """``[groups.NAME]``: loads that step together."""

    loads: Annotated[
        list[str],
        setting(
            "Loads of one captured store into one other store, which step to one moment and in one commit. "
            "Parents come before their children: rows arrive in this order and leave in reverse.",
            min_length=1,
        ),
    ]


class EngineConfig(Settings):
    """``[engine]``: what the work is done with."""

    kind: Annotated[
        Literal["local", "spark"],
        setting("What steps loads: this process (local), or the executors of a Spark cluster (spark)."),
    ] = "local"
    master: Annotated[str, setting("Spark's master, as in spark://host:7077.")] = "local[*]"
    options: Annotated[
        dict[str, str], setting('What is said to Spark besides, as in { "spark.executor.memory" = "4g" }.')
    ] = {}
    memory: Annotated[
        str,
        setting(
            "How much memory the process may take, as in 1GiB; what does not fit goes to disk. Default: half of the machine's.",
            checks.enough_memory,
        ),
    ] = ""
    scratch: Annotated[
        str, setting("The folder for what does not fit in memory. Default: the system's for temporary files (TMPDIR).")
    ] = ""


class Config(Settings):
    """A whole plainstep.toml."""

    stores: dict[str, StoreConfig]
    loads: dict[str, LoadConfig] = {}
    groups: dict[str, GroupConfig] = {}
    engine: EngineConfig = field(default_factory=EngineConfig)


def config_schema() -> dict[str, Any]:
    """The JSON Schema of plainstep.toml, for editors."""
    schema: dict[str, Any] = json.schema(Config)
    for model in Settings.__subclasses__():
        known = schema["$defs"][model.__name__]["properties"]
        schema["$defs"][model.__name__]["properties"] = {
            one.encode_name: _or_one(known[one.encode_name], ONE_OF_MANY in said_of(one.type))
            for one in fields_of(model)
        }
    return {"title": "plainstep.toml"} | schema


def _or_one(schema: dict[str, Any], may_be: bool) -> dict[str, Any]:
    """The schema of a list, or of what may be one, for which one item may stand."""
    if not may_be:
        return schema
    lists = schema.get("anyOf", [{name: schema[name] for name in ("type", "items") if name in schema}])
    several = next(one["items"] for one in lists if one.get("type") == "array")
    rest = {name: value for name, value in schema.items() if name not in ("type", "items", "anyOf")}
    return rest | {"anyOf": [*several.get("anyOf", [several]), *lists]}
