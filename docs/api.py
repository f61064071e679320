"""Prints docs/api.md: every public name with its call and what it says of itself. ``python docs/api.py > docs/api.md``"""

import inspect
import re

import fairladder as fl


def entry(name):
    thing = getattr(fl, name)
    told = inspect.getdoc(thing) or ""
    call = f"({', '.join(_parameters(thing))})" if inspect.isfunction(thing) else ""
    body, _, example = told.partition("\n>>> ")
    parts = [f"### `fl.{name}{call}`", "", *_markdown(body)]
    if example:
        parts += ["", "```python", ">>> " + example.rstrip(), "```"]
    methods = _methods(thing) if inspect.isclass(thing) else []
    if inspect.ismodule(thing):
        functions = [(n, getattr(thing, n)) for n in thing.__all__]
        parts += [
            "",
            *(f"* `fl.{name}.{n}({', '.join(_parameters(f))})`: {_first(f)}" for n, f in functions),
        ]
    parts += [""] if methods else []
    parts += [f"* `.{n}({', '.join(_parameters(m)[1:])})`: {_first(m)}" for n, m in methods]
    return "\n".join(parts)


def _first(function):
    """The first line of what a function says of itself."""
    return (inspect.getdoc(function) or "").splitlines()[0].replace("``", "`")


def _methods(thing):
    """Public methods of our own, those of the class first."""
    found = {}
    for home in thing.__mro__:
        if home.__module__.startswith("fairladder") and home.__name__ != "Part":
            for name, method in vars(home).items():
                if inspect.isfunction(method) and not name.startswith("_"):
                    found.setdefault(name, method)
    return list(found.items())


def _markdown(text):
    text = re.sub(r"^(\w+)\n-+$", r"**\1**\n", text, flags=re.M)  # headings of a section
    text = re.sub(r"^(\S.*)\n    ", r"* \1: ", text, flags=re.M)  # what a parameter is
    return re.sub(r"^    ", "  ", text.replace("``", "`"), flags=re.M).rstrip().splitlines()


def _parameters(thing):
    shown, star = [], False
    for p in inspect.signature(thing).parameters.values():
        if p.kind is p.KEYWORD_ONLY and not star:
            shown, star = [*shown, "*"], True
        shown.append(p.name if p.default is p.empty else f"{p.name}={p.default!r}")
    return shown


GROUPS = {
    "Orders": (
        "open_orders Orders check Check Finding sample_orders sample_shop order_ledger order_lines"
    ).split(),
    "Ladders": ("Ladder GroupedLadder top_ladder spend_ladder percentile percent_rank").split(),
    "Scores": (
        "Scheme load_scheme score fit_ladders segment_summary tier_summary rule_coverage fairness_of top select scheme_sql customers_sql "
        "SavedLadders load_ladders drift customers_to_score"
    ).split(),
    "History": (
        "growth flat_spells cohorts Cohorts order_counts one_order_short one_channel channel_flow breakdown Breakdown"
    ).split(),
    "Lifetime value": (
        "value_formula value_from_totals FormulaValue value_forecast Forecast with_forecast backtest Backtest what_if WhatIf break_even "
        "worth_of_return"
    ).split(),
    "Campaigns": (
        "campaign campaign_lists CampaignList lift Lift plan_holdout HoldoutPlan"
    ).split(),
    "Second looks": (
        "compare compare_scored Comparison paths Paths explain Explanation stability Stability"
    ).split(),
    "Files and figures": ("write write_table figures report").split(),
    "Errors": (
        "FairLadderError UsageError SchemeError ConditionError DataError FairLadderWarning"
    ).split(),
}


def page():
    assert sorted(n for names in GROUPS.values() for n in names) == fl.__all__
    parts = [
        "# The Python interface",
        "",
        "Made by `python docs/api.py`. `import fairladder as fl`; names are loaded when they are first used.",
    ]
    for group, names in GROUPS.items():
        parts += ["", f"## {group}", "", "\n\n".join(entry(n) for n in names)]
    return "\n".join(parts) + "\n"


if __name__ == "__main__":
    print(page(), end="")
