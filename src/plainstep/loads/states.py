"""What is known of a load while something is done with it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from plainstep.copying import replace
from plainstep.core.positions import Position, Window
from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.loads.keys import key_of
from plainstep.loads.shape import in_held_types, shape_of
from plainstep.loads.target_rows import TargetRows
from plainstep.loads.windows import ahead, refuse_unless_continuous, resolve, span_of
from plainstep.properties import cached_property

if TYPE_CHECKING:
    from plainstep.core.points import Point
    from plainstep.core.positions import Span, Watermark
    from plainstep.core.shapes.base import Shape
    from plainstep.loads.load import Load


@dataclass(frozen=True)
class LoadState:
    """What is known of a load while something is done with it: looked up once, when it is first asked for.

    Attributes:
        load: the load.
        watermark: its watermark, or None before its first step.
        span: how far its source can be read.
    """

    load: Load
    watermark: Watermark | None
    span: Span

    @cached_property
    def schema(self) -> pa.Schema:
        """The columns that its changes and snapshots carry."""
        return self.load.source.schema()

    @cached_property
    def key(self) -> tuple[str, ...]:
        """Its key."""
        return key_of(self.load, self.schema)

    @cached_property
    def shape(self) -> Shape:
        """Its shape, over these columns."""
        return shape_of(self.load, self.schema)

    @cached_property
    def held(self) -> TargetRows:
        """What its target holds."""
        return TargetRows(self.load, self.shape.tables(), [self.schema.field(name) for name in self.shape.key])

    def window(self, after: Point | None, upto: Point | None) -> Window:
        """The window a person asks for; default: the changes not merged yet.

        Raises:
            ConfigError: the window makes no sense.
            Refused: changes of the window are no longer held.
        """
        load, watermark, span = self.load, self.watermark, self.span
        if after is not None:
            start = resolve(load, span, after)
        elif watermark is not None:
            refuse_unless_continuous(load, watermark, span)
            start = watermark.reached
        else:
            start = Position(span.oldest)
        if upto is None and after is None and watermark is not None:
            return ahead(watermark, span)
        end = resolve(load, span, upto) if upto is not None else span.end
        if start.number < span.oldest:
            raise Refused(
                f"Changes of {load.config.source} are held only after {span.oldest}; {start.number} is too early.",
                "Those before it were trimmed.",
                "--after start begins with the oldest change that is held.",
            )
        return Window.between(start, end)

    def in_held_types(self) -> LoadState:
        """The same, with the columns in the types of its table, where these hold more."""
        found = replace(self)
        found.__dict__["shape"] = in_held_types(self.shape, self.held.found(""))
        return found


def state_of(load: Load) -> LoadState:
    """What is known of a load now: also of columns that came to its source since a project was opened."""
    load.renew()
    watermark = load.target.watermark(load.name)
    return LoadState(load, watermark, span_of(load, watermark))
