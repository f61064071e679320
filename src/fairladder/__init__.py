"""Fair Ladder: turn a table of orders into scored and segmented customers.

    import fairladder as fl

    orders = fl.open_orders("orders.csv", customers="members.csv", scheme="scheme.toml")
    orders.check()
    scored = orders.score()
    fl.segment_summary(scored)

Names are loaded when they are first used.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from fairladder import figures, report
    from fairladder.api import Orders, open_orders, sample_orders
    from fairladder.book.on_paper import customers_sql
    from fairladder.campaigns.lift import HoldoutPlan, Lift, lift, plan_holdout
    from fairladder.campaigns.listing import CampaignList, campaign, campaign_lists
    from fairladder.demo import sample_shop
    from fairladder.errors import (
        ConditionError,
        DataError,
        FairLadderError,
        FairLadderWarning,
        SchemeError,
        UsageError,
    )
    from fairladder.findings import Finding
    from fairladder.history.breakdown import Breakdown, breakdown
    from fairladder.history.cohorts import Cohorts, cohorts
    from fairladder.history.counts import channel_flow, one_channel, one_order_short, order_counts
    from fairladder.history.growth import flat_spells, growth
    from fairladder.history.ledger import order_ledger, order_lines
    from fairladder.ladder import (
        GroupedLadder,
        Ladder,
        percent_rank,
        percentile,
        spend_ladder,
        top_ladder,
    )
    from fairladder.output.files import write
    from fairladder.output.tables import write_table
    from fairladder.review.check import Check, check
    from fairladder.review.comparison import Comparison, Paths, compare, compare_scored, paths
    from fairladder.review.explanation import Explanation, explain
    from fairladder.review.stability import Stability, stability
    from fairladder.scheme import Scheme, load_scheme
    from fairladder.scores.as_sql import scheme_sql
    from fairladder.scores.fairness import fairness_of
    from fairladder.scores.on_frames import (
        fit_ladders,
        rule_coverage,
        score,
        segment_summary,
        select,
        tier_summary,
        top,
    )
    from fairladder.scores.saved import SavedLadders, drift, load_ladders
    from fairladder.value.backtest import Backtest, backtest
    from fairladder.value.forecast import Forecast, value_forecast, with_forecast
    from fairladder.value.formula import FormulaValue, value_formula, value_from_totals
    from fairladder.value.to_score import customers_to_score
    from fairladder.value.what_if import WhatIf, break_even, what_if, worth_of_return

__version__ = "0.1.0"
_HOMES = {
    "campaigns.lift": ("HoldoutPlan", "Lift", "lift", "plan_holdout"),
    "campaigns.listing": ("CampaignList", "campaign", "campaign_lists"),
    "review.comparison": ("Comparison", "Paths", "compare", "compare_scored", "paths"),
    "errors": (
        "ConditionError",
        "DataError",
        "FairLadderError",
        "FairLadderWarning",
        "SchemeError",
        "UsageError",
    ),
    "output.files": ("write",),
    "output.tables": ("write_table",),
    "review.explanation": ("Explanation", "explain"),
    "history.breakdown": ("Breakdown", "breakdown"),
    "history.cohorts": ("Cohorts", "cohorts"),
    "history.counts": ("channel_flow", "one_order_short", "one_channel", "order_counts"),
    "history.growth": ("flat_spells", "growth"),
    "history.ledger": ("order_ledger", "order_lines"),
    "review.stability": ("Stability", "stability"),
    "scores.fairness": ("fairness_of",),
    "ladder": (
        "GroupedLadder",
        "Ladder",
        "percent_rank",
        "percentile",
        "spend_ladder",
        "top_ladder",
    ),
    "api": ("Orders", "open_orders", "sample_orders"),
    "review.check": ("Check", "check"),
    "demo": ("sample_shop",),
    "book.on_paper": ("customers_sql",),
    "scores.as_sql": ("scheme_sql",),
    "scores.saved": ("SavedLadders", "drift", "load_ladders"),
    "findings": ("Finding",),
    "scheme": ("Scheme", "load_scheme"),
    "value.backtest": ("Backtest", "backtest"),
    "value.to_score": ("customers_to_score",),
    "value.what_if": ("WhatIf", "break_even", "what_if", "worth_of_return"),
    "value.forecast": ("Forecast", "value_forecast", "with_forecast"),
    "value.formula": ("FormulaValue", "value_formula", "value_from_totals"),
    "scores.on_frames": (
        "fit_ladders",
        "rule_coverage",
        "score",
        "segment_summary",
        "select",
        "tier_summary",
        "top",
    ),
}
_HOME = {name: home for home, names in _HOMES.items() for name in names}
#: Subpackages that are public as they are.
_ROOMS = ("figures", "report")
__all__ = sorted([*_HOME, *_ROOMS])  # type checkers use the imports above


def __getattr__(name: str) -> Any:
    if name in _ROOMS:
        return import_module(f"fairladder.{name}")
    if name in _HOME:
        return getattr(import_module(f"fairladder.{_HOME[name]}"), name)
    raise AttributeError(f"module 'fairladder' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted([*__all__, "__version__"])
