"""Fair Ladder: from a table of orders to scored, segmented customers.

    import fairladder as fl

    orders = fl.open_orders("orders.csv", customers="members.csv", scheme="scheme.toml")
    orders.check()
    scored = fl.score(orders.customers(), orders.scheme)
    fl.segment_summary(scored)

Names are loaded when they are first used.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from fairladder import figures
    from fairladder.campaigns.lift import HoldoutPlan, Lift, lift, plan_holdout
    from fairladder.campaigns.listing import CampaignList, campaign, campaign_lists
    from fairladder.comparison import Comparison, Paths, compare, compare_scored, paths
    from fairladder.errors import ConditionError, DataError, FairLadderError, FairLadderWarning, SchemeError, UsageError
    from fairladder.explanation import Explanation, explain
    from fairladder.fairness import fairness_of
    from fairladder.files import write
    from fairladder.history.breakdown import Breakdown, breakdown
    from fairladder.history.cohorts import Cohorts, cohorts
    from fairladder.history.counts import channel_flow, one_before, one_channel, order_counts
    from fairladder.history.growth import flat_spells, growth
    from fairladder.history.ledger import order_ledger
    from fairladder.ladder import GroupedLadder, Ladder, percent_rank, percentile, spend_ladder, top_ladder
    from fairladder.order_book import Check, Orders, open_orders
    from fairladder.orders.findings import Finding
    from fairladder.portable import scheme_sql
    from fairladder.saved_ladders import SavedLadders, drift, load_ladders
    from fairladder.scheme import Scheme, load_scheme
    from fairladder.scoring import fit_ladders, rule_coverage, score, segment_summary
    from fairladder.steadiness import Stability, stability
    from fairladder.toplists import top
    from fairladder.value.backtest import Backtest, backtest
    from fairladder.value.columns import customers_to_score
    from fairladder.value.forecast import Forecast, value_forecast, with_forecast
    from fairladder.value.formula import FormulaValue, value_formula, value_from_totals

__version__ = "0.1.0"
__all__ = [
    "Backtest", "Breakdown", "CampaignList", "Check", "Cohorts", "Comparison", "ConditionError", "DataError",
    "Explanation", "FairLadderError", "FairLadderWarning", "Finding", "Forecast", "FormulaValue", "GroupedLadder", "HoldoutPlan",
    "Ladder", "Lift", "Orders", "Paths", "SavedLadders", "Scheme", "SchemeError", "Stability", "UsageError",
    "backtest", "breakdown", "campaign", "campaign_lists", "channel_flow", "cohorts", "compare",
    "compare_scored", "customers_to_score", "drift", "explain", "fairness_of", "figures", "fit_ladders",
    "flat_spells", "growth", "lift", "load_ladders", "load_scheme", "one_before", "one_channel", "open_orders",
    "order_counts", "order_ledger", "paths", "percent_rank", "percentile", "plan_holdout", "rule_coverage",
    "scheme_sql", "score", "segment_summary", "spend_ladder", "stability", "top", "top_ladder",
    "value_forecast", "value_formula", "value_from_totals", "with_forecast", "write",
]  # fmt: skip

_HOMES = {
    "campaigns.lift": ("HoldoutPlan", "Lift", "lift", "plan_holdout"),
    "campaigns.listing": ("CampaignList", "campaign", "campaign_lists"),
    "comparison": ("Comparison", "Paths", "compare", "compare_scored", "paths"),
    "errors": ("ConditionError", "DataError", "FairLadderError", "FairLadderWarning", "SchemeError", "UsageError"),
    "files": ("write",),
    "explanation": ("Explanation", "explain"),
    "history.breakdown": ("Breakdown", "breakdown"),
    "history.cohorts": ("Cohorts", "cohorts"),
    "history.counts": ("channel_flow", "one_before", "one_channel", "order_counts"),
    "history.growth": ("flat_spells", "growth"),
    "history.ledger": ("order_ledger",),
    "steadiness": ("Stability", "stability"),
    "fairness": ("fairness_of",),
    "ladder": ("GroupedLadder", "Ladder", "percent_rank", "percentile", "spend_ladder", "top_ladder"),
    "order_book": ("Check", "Orders", "open_orders"),
    "portable": ("scheme_sql",),
    "saved_ladders": ("SavedLadders", "drift", "load_ladders"),
    "orders.findings": ("Finding",),
    "scheme": ("Scheme", "load_scheme"),
    "toplists": ("top",),
    "value.backtest": ("Backtest", "backtest"),
    "value.columns": ("customers_to_score",),
    "value.forecast": ("Forecast", "value_forecast", "with_forecast"),
    "value.formula": ("FormulaValue", "value_formula", "value_from_totals"),
    "scoring": ("fit_ladders", "rule_coverage", "score", "segment_summary"),
}
_HOME = {name: home for home, names in _HOMES.items() for name in names}


def __getattr__(name: str) -> Any:
    if name == "figures":
        return import_module("fairladder.figures")
    if name in _HOME:
        return getattr(import_module(f"fairladder.{_HOME[name]}"), name)
    raise AttributeError(f"module 'fairladder' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted([*__all__, "__version__"])
