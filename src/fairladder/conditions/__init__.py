"""SQL search conditions: the language and its kinds, over the cells of an engine, or as a mask over a frame."""

from fairladder.conditions.in_engine import to_engine
from fairladder.conditions.language import ROLE, Condition, Kind, parse_condition
from fairladder.conditions.on_frame import frame_kinds, to_mask

__all__ = ["ROLE", "Condition", "Kind", "frame_kinds", "parse_condition", "to_engine", "to_mask"]
