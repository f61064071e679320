"""SQL search conditions: the language with its types, and its evaluation in an engine."""

from fairladder.conditions.in_engine import to_engine
from fairladder.conditions.language import ROLE, Condition, Kind, parse_condition

__all__ = ["ROLE", "Condition", "Kind", "parse_condition", "to_engine"]
