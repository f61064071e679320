"""``fairladder value``: the value of customers to date, by formula and by forecast, each factor
with its unit.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from fairladder import wording
from fairladder.cli.options import FIGURE_OF, Request, as_fraction, known_figure, option
from fairladder.days import checked_period
from fairladder.errors import UsageError
from fairladder.frames import row_of_largest, rows_of
from fairladder.settings import FORMULA

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure
    from rich.console import RenderableType
    from rich.text import Text

    from fairladder.api import Orders
    from fairladder.steps import Progress
    from fairladder.value.forecast import Forecast
    from fairladder.value.formula import FormulaValue
    from fairladder.value.what_if import WhatIf

PARTS = (
    "customers",
    "answers",
    "factors",
    "groups",
    "models",
    "top-shares",
    "backtest",
    "calibration",
    "tracking",
    "what-if",
    "win-back",
)
FIGURES = ("tracking", "calibration", "expected", "active")
#: Parts with a formula; all but the factors also have a forecast.
_OF_FORMULA = ("answers", "factors", "groups")
_TOTALS = ("revenue", "orders", "periods")


_ALONE = "Totals alone, without ORDERS (--customers is then a number)"
Period = Annotated[
    str | None,
    option(
        "--period",
        help="day, week, month, quarter or year. Default: the longest that the history allows.",
        metavar="PERIOD",
        panel=FORMULA,
    ),
]
By = Annotated[
    str | None,
    option(
        "--by",
        help="A column, cohort or segment: figures for each of its values.",
        metavar="COLUMN",
        panel=FORMULA,
    ),
]
Retention = Annotated[
    str | None,
    option(
        "--retention",
        help="A known retention per period: 0.6 or 60%.",
        metavar="FRACTION",
        panel=FORMULA,
    ),
]
Revenue = Annotated[
    float | None,
    option("--revenue", help="Revenue of the period(s).", metavar="AMOUNT", panel=_ALONE),
]
Count = Annotated[
    int | None, option("--orders", help="Orders in the period(s).", metavar="NUMBER", panel=_ALONE)
]
Periods = Annotated[
    int | None,
    option(
        "--periods",
        help="Number of periods that the totals cover; customers are then summed over them.",
        metavar="NUMBER",
        panel=_ALONE,
    ),
]
_IF = "What is a change worth?"
IfRetention = Annotated[
    str | None,
    option(
        "--if-retention",
        help="Change of retention in points: 5 or -2.",
        metavar="POINTS",
        panel=_IF,
    ),
]
IfFrequency = Annotated[
    str | None,
    option(
        "--if-frequency",
        help="Change of order frequency: 10% or -5%.",
        metavar="PERCENT",
        panel=_IF,
    ),
]
IfOrderValue = Annotated[
    str | None,
    option(
        "--if-order-value", help="Change of order value: 10% or -5%.", metavar="PERCENT", panel=_IF
    ),
]
IfResponse = Annotated[
    str | None,
    option(
        "--if-response",
        help=(
            "The share of inactive customers that a contact brings back: 5%. Prints the highest "
            "cost of a contact by segment."
        ),
        metavar="FRACTION",
        panel=_IF,
    ),
]
FigureOf = Annotated[str, FIGURE_OF]


def value(
    request: Request, options: Mapping[str, Any], period: Period = None, by: By = None,
    retention: Retention = None,
    revenue: Revenue = None, order_count: Count = None, periods: Periods = None,
    if_retention: IfRetention = None,
    if_frequency: IfFrequency = None, if_order_value: IfOrderValue = None,
    if_response: IfResponse = None,
    figure_of: FigureOf = "tracking",
) -> None:  # fmt: skip
    """Report what a customer is worth to date, by formula and in the future, and how certain that is."""
    from fairladder.cli import door, screen
    from fairladder.value.checks import checked_horizon, checked_margin, checked_retention

    if period is not None:
        checked_period(period)
    stays, kept, horizon = (
        options.get("margin"),
        as_fraction("--retention", retention),
        options.get("horizon"),
    )
    checked_margin(stays)
    checked_retention(kept)
    if horizon is not None:
        checked_horizon(horizon)
    if periods is not None and periods < 1:
        raise UsageError(f"--periods {periods}: totals cover one period or more.")
    moved = {
        "retention": as_change("--if-retention", if_retention, points=True),
        "frequency": as_change("--if-frequency", if_frequency),
        "order_value": as_change("--if-order-value", if_order_value),
    }  # fmt: skip
    response = as_fraction("--if-response", if_response)
    if not request.orders:
        if response is not None or any(share is not None for share in moved.values()):
            raise UsageError(
                "--if-retention, --if-frequency, --if-order-value and --if-response need ORDERS."
            )
        _from_totals(request, revenue, order_count, kept, periods, period or "year", stays)
        return
    given = [
        name
        for name, v in zip(_TOTALS, (revenue, order_count, periods), strict=True)
        if v is not None
    ]
    if given:
        raise UsageError(f"--{given[0]} is only for totals; omit ORDERS, or the option.")
    known_figure(figure_of, FIGURES)
    opened = door.opened(
        request,
        PARTS,
        figures=True,
        ahead=("fairladder.value.formula", "fairladder.value.forecast"),
    )
    from fairladder.value.formula import usual_period

    answers = _Answers(
        opened,
        period or usual_period(opened),
        by,
        stays,
        kept,
        horizon,
        options.get("discount_rate"),
        options.get("method"),
        options.get("backtest"),
        {name: share for name, share in moved.items() if share is not None},
        response,
    )
    whole = request.part is None and (
        screen.for_people(request) or str(request.out).endswith(".json")
    )
    with screen.busy(request, "Computing customer value", opened.engine) as progress:
        answers = replace(answers, progress=progress)
        wanted_parts = (
            [p for p in PARTS if answers.has(p)] if whole else [request.part or "customers"]
        )
        tables = {name: answers.table(name) for name in wanted_parts}
        view = answers.views() if whole else []
    door.give(
        request,
        opened,
        tables,
        view,
        notes=answers.notes(wanted_parts),
        figure=lambda: answers.figure(figure_of),
    )


def _from_totals(
    request: Request, revenue: float | None, orders: int | None, retention: float | None,
    periods: int | None, period: str,
    margin: float | None,
) -> None:  # fmt: skip
    """Compute the formula from totals only, where ``--customers`` is the number of customers."""

    from fairladder.cli import door
    from fairladder.value.formula import value_from_totals

    needed = {
        "--revenue": revenue,
        "--orders": orders,
        "--customers": request.customers,
        "--retention": retention,
    }
    missing = [name for name, v in needed.items() if v is None]
    if missing:
        raise UsageError(
            "Without ORDERS, value works from totals: give --revenue, --orders, --customers and "
            f"--retention ({missing[0]} is missing)."
        )
    made = value_from_totals(
        revenue=revenue or 0, orders=orders or 0, customers=_number(request.customers),
        retention=retention or 0,
        periods=periods or 1, period=period, margin=1.0 if margin is None else margin,
    )  # fmt: skip
    door.give(request, None, made.tables(), [_factors(made)], notes=made.notes)


def _number(customers: Path | None) -> int:
    try:
        return int(str(customers))
    except ValueError:
        raise UsageError(
            f"--customers {customers}: without ORDERS it is the number of customers."
        ) from None


@dataclass
class _Answers:
    """The data for parts, screen and figures, each computed once on demand."""

    orders: "Orders"
    period: str
    by: str | None
    margin: float | None
    retention: float | None
    horizon: int | None
    discount_rate: float | None
    method: str | None
    split: str | None
    moved: Mapping[str, float]
    response: float | None
    progress: "Progress | None" = None

    @cached_property
    def formulas(self) -> "dict[str, FormulaValue]":
        """The formula by the requested period and, if retention comes from the orders, by other
        periods for comparison.
        """
        from fairladder.value.formula import formula_by_period

        others = (
            ("month", "quarter", "year")
            if self.retention is None and self.period not in ("day", "week")
            else ()
        )
        periods = tuple(dict.fromkeys((self.period, *others)))
        return formula_by_period(
            self.orders, periods, by=self.by, margin=self.margin, retention=self.retention
        )

    @property
    def formula(self) -> "FormulaValue":
        return self.formulas[self.period]

    @cached_property
    def forecast(self) -> "Forecast":
        from fairladder.value.forecast import value_forecast

        return value_forecast(
            self.orders, horizon=self.horizon, margin=self.margin, discount_rate=self.discount_rate,
            method=self.method,
            split=self.split, progress=self.progress,
        )  # fmt: skip

    @cached_property
    def changed(self) -> "WhatIf":
        from fairladder.value.what_if import what_if

        if not self.moved:
            raise UsageError(
                "--part what-if needs a change: --if-retention, --if-frequency or --if-order-value."
            )
        return what_if(self.formula, self.forecast, **self.moved)

    @cached_property
    def win_back(self) -> "pd.DataFrame":
        from fairladder.value.what_if import break_even

        if self.response is None:
            raise UsageError(
                "--part win-back needs --if-response, the share of inactive customers that "
                "a contact brings back."
            )
        segments = self.orders.score().set_index("customer")["segment"].astype(str)
        return break_even(self.forecast, segments, self.response)

    def has(self, part: str) -> bool:
        if part in ("what-if", "win-back"):
            return bool(self.moved) if part == "what-if" else self.response is not None
        return (
            part not in ("backtest", "calibration", "tracking")
            or self.forecast.backtest is not None
        )

    def table(self, part: str) -> "pd.DataFrame":
        if part == "factors":
            return self.formula.tables()[part]
        if part == "groups":
            return self.groups
        if part == "answers":
            return self.answers
        if part == "what-if":
            return self.changed.frame
        if part == "win-back":
            return self.win_back
        if not self.has(part):
            raise UsageError(
                f"--part {part}: the history is too short for a backtest; give --backtest "
                "DAY to force one."
            )
        return self.forecast.tables()[part]

    @cached_property
    def groups(self) -> "pd.DataFrame":
        """Formula and forecast side by side, all customers first."""
        import pandas as pd

        name = self.formula.by
        ahead = self.forecast.totals().assign(group="all").rename(columns={"group": name})
        if self.formula.groups is not None:
            ahead = pd.concat([ahead, self.forecast.totals(self.formula.groups.rename(name))])
        return self.formula.frame.merge(ahead.drop(columns="customers"), on=name, how="left")

    @cached_property
    def answers(self) -> "pd.DataFrame":
        """The values by method: ``answer``, ``per_customer``, ``low`` and ``high`` (80 %),
        ``all_customers``, ``basis``.
        """
        import pandas as pd

        from fairladder.columns import ALSO_MONEY

        made, ahead = self.formula, self.forecast
        row, total = made.frame.iloc[0], ahead.totals().iloc[0]
        n, margin = len(ahead.frame), f", margin {row['margin']:.0%}" if row["margin"] < 1 else ""
        rate = f", discounted at {ahead.discount_rate:.0%} a year" if ahead.discount_rate else ""
        lines = [
            ("to date", row["quick_value"], None, None, row["revenue"],
            "revenue ÷ customers with a purchase"),
            ("by formula", row["formula_value"], row["value_if_lower"], row["value_if_higher"],
            row["formula_value"] * n,
             (f"first order to first {made.period} without an order{margin}; retention 5 "
                 "points down and up")),
            (f"forecast for {ahead.horizon} days", total["expected_value"] / n, total["value_low"] / n,
            total["value_high"] / n,
             total["expected_value"],
             f"forecast for all customers; 80 % range{margin}{rate}"),
        ]  # fmt: skip
        table = pd.DataFrame(
            lines, columns=["answer", "per_customer", "low", "high", "all_customers", "basis"]
        )
        table = table.astype({"low": float, "high": float})
        table.attrs[ALSO_MONEY] = ["low", "high"]
        return table

    def notes(self, parts: Sequence[str]) -> list[str]:
        """Return the notes on these parts."""
        notes = [*self.formula.notes] if set(_OF_FORMULA) & set(parts) else []
        notes += self.changed.notes if "what-if" in parts else ()
        return [*notes, *(self.forecast.notes if set(parts) - {"factors"} else ())]

    def views(self) -> "list[RenderableType]":
        from fairladder.value.predict import NAIVE

        untold = self.forecast.method == NAIVE and self.forecast.backtest is not None
        pieces = [_three(self.answers, untold), _factors(self.formula), _why(self)]
        if self.by:
            pieces.append(
                _groups(self.groups, self.formula.by, self.formula.period, self.forecast.horizon)
            )
        if self.moved:
            pieces.append(_changed(self.changed))
        if self.response is not None:
            pieces.append(_win_back(self.win_back, self.response, self.forecast.horizon))
        if self.forecast.backtest is not None:
            pieces.append(_tested(self.forecast))
        return pieces

    def figure(self, name: str) -> "Figure":
        from fairladder import figures

        facts = self.orders.facts()
        if name in ("tracking", "calibration"):
            tested = self.forecast.backtest
            if tested is None:
                raise UsageError(f"--figure-of {name}: the history is too short for a backtest.")
            return getattr(figures, f"value_{name}")(tested, facts=facts)  # type: ignore[no-any-return]
        if name == "active":
            return figures.value_active(self.forecast, self.orders.customers_here(), facts=facts)
        return figures.value_expected(self.forecast, facts=facts)


def _range(low: Any, high: Any, decimals: int = 0) -> str:
    if wording.missing(low) and wording.missing(high):
        return wording.NOTHING
    return f"{wording.money(low, decimals)} to {wording.money(high, decimals)}"


def _three(answers: "pd.DataFrame", untold: bool) -> "RenderableType":
    from fairladder.cli.screen import table

    rows = [
        [
            a.answer,
            a.basis,
            wording.money(a.per_customer, 2),
            _range(a.low, a.high),
            wording.money(a.all_customers),
        ]
        for a in rows_of(answers)
    ]
    each = [wording.money(v) for v in answers["per_customer"]]
    ahead = "no forecast" if each[2] == wording.NOTHING else f"{each[2]} more in the future"
    if untold:
        ahead = "and no forecast that beats each customer's own past rate"
    title = f"What is a customer worth? {each[0]} to date, {each[1]} by formula, {ahead}"
    return table(title, ["answer", "basis", "per customer", "range", "all customers"], rows, left=2)


def as_change(option: str, text: str | None, points: bool = False) -> float | None:
    """Parse ``10%``, ``+10`` or ``-2.5`` as a share, or return None. Raises UsageError for other
    text.
    """
    if text is None:
        return None
    examples = "points, such as 5 or -2" if points else "percent, such as 10% or -5%"
    bare = (
        text.strip()
        .removesuffix("points" if points else "%")
        .removesuffix("%")
        .strip()
        .replace("\u2212", "-")
    )
    try:
        number = float(bare)
    except ValueError:
        raise UsageError(f"{option} {text}: give {examples}.") from None
    if (
        0 < abs(number) < 1 and bare == text.strip()
    ):  # 0.05 could mean five percent, or a twentieth of one percent
        unit = " points" if points else "%"
        raise UsageError(
            f"{option} {text}: give {examples}; if {text}{unit} is meant, write it so."
        )
    return number / 100


def _changed(made: "WhatIf") -> "RenderableType":
    from fairladder.cli.screen import table

    rows = [
        [r.answer, wording.money(r.value_now, 2), wording.money(r.value_then, 2),
        wording.money(r.value_change, 2),
         _range(r.change_low, r.change_high, 2), wording.money(r.all_change),
         _range(r.all_low, r.all_high)]
        for r in rows_of(made.frame)
    ]  # fmt: skip
    columns = ["answer", "value now", "value then", "value change", "range", "all change", "range"]
    return table(f"What would {made.change.in_words()} be worth?", columns, rows)


def _win_back(found: "pd.DataFrame", response: float, horizon: int) -> "RenderableType":
    from fairladder.cli.screen import table

    rows = [
        [r.segment, wording.count(r.customers), wording.percent(r.active_probability),
        wording.money(r.value_if_active, 2),
         wording.money(r.break_even, 2), wording.money(r.all_worth)]
        for r in rows_of(found)
    ]  # fmt: skip
    columns = [
        "segment",
        "customers",
        "active probability",
        f"value if active, {horizon} days",
        "break even",
        "all worth",
    ]
    title = (
        f"What may a win-back contact cost? {wording.percent(response)} of inactive customers "
        "come back"
    )
    return table(title, columns, rows)


def _factors(made: "FormulaValue") -> "RenderableType":
    from fairladder.cli.screen import table

    rows = [
        [
            f.factor,
            f.unit,
            f[3],
            wording.percent(f.value) if f.factor in ("retention",
            "margin") else wording.money(f.value, 2),
        ]
        for f in rows_of(made.factors())
    ]  # fmt: skip
    first = made.frame.iloc[0]
    title = "How is the formula value computed?"
    low, high = first["value_if_lower"], first["value_if_higher"]
    if not wording.missing(low):
        title += f" With retention 5 points lower it is {wording.money(low)}"
        title += f", with 5 points more {wording.money(high)}" if not wording.missing(high) else ""
    return table(title, ["factor", "unit", "from", "value"], rows, left=3)


def _why(answers: _Answers) -> "Text":
    """Explain why the values differ by what each leaves out."""
    from rich.text import Text

    ahead = answers.forecast
    first, last = answers.orders.spent()["first_order"].min(), answers.orders.as_of
    by_period = {p: made.frame["formula_value"].iloc[0] for p, made in answers.formulas.items()}
    texts = [
        f"{wording.money(by_period[p])} by {p}"
        for p in ("day", "week", "month", "quarter", "year")
        if not wording.missing(by_period.get(p))
    ]
    by_length = f": {', '.join(texts)}. A longer period tolerates longer pauses" if texts else ""
    lines = [
        Text("Why do they differ?", style="bold"),
        Text(
            f"• Value to date counts revenue from {wording.day(first)} to "
            f"{wording.day(last)}, not profit. New customers have had little time "
            "to spend, and nothing in the future is included."
        ),
        Text(
            "• The formula treats customers as lost once they skip a period, though many "
            f"only pause{by_length}."
        ),
    ]
    if not ahead.frame["active_probability"].isna().all():
        there = ahead.frame["active_probability"].mean()
        lines.append(
            Text(
                f"• The forecast covers the next {ahead.horizon} days. Each customer is "
                "weighted by the probability that they are still active "
                f"({wording.percent(there)} on average), so inactive customers lower the "
                "average."
            )
        )
    lines.append(Text(f"• {ahead.of_range()}"))
    return Text("\n").join(lines)


def _groups(groups: "pd.DataFrame", by: str, period: str, horizon: int) -> "RenderableType":
    from fairladder.cli.screen import table

    rows = [
        [str(g[by]), wording.count(g["customers"]), wording.money(g["quick_value"]),
        wording.money(g["average_order_value"], 2),
         wording.money(g["orders_per_period"], 2), wording.percent(g["retention"]),
         wording.money(g["formula_value"]),
         wording.money(g["expected_value"] / g["customers"] if g["customers"] else None),
         wording.money(g["expected_value"]),
         _range(g["value_low"], g["value_high"])]
        for _, g in groups.iterrows()
    ]  # fmt: skip
    own = groups.iloc[1:].dropna(subset="expected_value")
    best = row_of_largest(own, own["expected_value"] / own["customers"])[by] if len(own) else "none"
    columns = [
        by, "customers", "to date", "average order value", f"orders per {period}", "retention", "by formula",
        f"forecast for {horizon} days",
        "expected value", "80 % range",
    ]  # fmt: skip
    return table(
        f"What are customers worth by {by}? {best} has the highest forecast per customer",
        columns,
        rows,
    )


def _tested(ahead: "Forecast") -> "RenderableType":
    from rich.console import Group
    from rich.text import Text

    from fairladder.cli.screen import table

    tested = ahead.backtest
    assert tested is not None
    rows = [
        [b.method, wording.money(b.orders), wording.money(b.actual_orders), _signed(b.total_error),
        _signed(b.value_error),
         f"{b.error:.3f}", wording.percent(b.top_found), wording.percent(b.coverage)]
        for b in rows_of(tested.frame)
    ]  # fmt: skip
    columns = [
        "method", "orders", "actual orders", "total error", "value error", "error per customer",
        "top 10 % found", "coverage",
    ]  # fmt: skip
    chosen = (
        "" if ahead.method == tested.winner else f" The forecast uses {ahead.method}, as requested."
    )
    held = (tested.through - tested.split).days
    title = (
        f"Was the forecast right? Trained on data up to {wording.day(tested.split)}, tested on "
        f"the {held} days after"
    )
    return Group(table(title, columns, rows), Text(tested.in_words() + chosen))


def _signed(share: float) -> str:
    return wording.NOTHING if wording.missing(share) else f"{wording.signed(100 * share, 1)} %"
