"""The scheme: all settings as one strict, frozen model, read from TOML with clear errors."""

import datetime as dt
import re
import tomllib
from collections.abc import Iterator, Mapping
from fractions import Fraction
from itertools import pairwise
from pathlib import Path
from typing import Annotated, Any, Literal, get_args
from zoneinfo import ZoneInfo

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    ValidationError,
    field_validator,
    model_validator,
)

from fairladder import columns
from fairladder.errors import SchemeError, nearest, shortened
from fairladder.numbers import DiscountUnit
from fairladder.settings import of_part
from fairladder.shares import fraction, percent

Stance = Literal["keep", "grow", "welcome", "win-back", "leave"]
#: In the order in which they are listed for users.
STANCES: tuple[Stance, ...] = get_args(Stance)
#: Roles that name one column of the orders.
ROLES = (
    "customer", "order", "placed", "amount", "unit_price", "quantity", "discount",
    "name", "channel", "status", "currency", "cost",
)  # fmt: skip


#: Date formats other than ISO, in the order of preference where several fit equally well.
DATE_ORDERS = ("day-first", "month-first", "year-first")
SPREADSHEET_DAYS = "spreadsheet-days"
#: Unix time units → units per second.
EPOCHS = {"epoch-seconds": 1, "epoch-milliseconds": 1000}


def _from_digits(value: Any) -> Any:
    """Convert a whole number that was given as text."""
    return int(value) if isinstance(value, str) and value.isdecimal() else value


def _as_tuple(value: Any) -> Any:
    return tuple(value) if isinstance(value, list) else value


def _as_percents(value: Any) -> Any:
    """Convert tier limits in percent. ``1`` and ``1%`` are both one percent, since limits can be
    below 1.
    """
    if not isinstance(value, list):
        return value
    percents = tuple(percent(v) if isinstance(v, str) else v for v in value)
    if any(p != p for p in percents):
        raise ValueError("percents are numbers between 0 and 100, not nan")
    return percents


def _as_month(value: Any) -> Any:
    """Convert a month written as ``04``."""
    return int(value) if isinstance(value, str) and value.isdecimal() else value


def _day_keys(value: Any) -> Any:
    """Convert the keys of a TOML table, which are text, to dates."""
    if value is None:
        return None
    try:
        return {dt.date.fromisoformat(k) if isinstance(k, str) else k: v for k, v in value.items()}
    except (AttributeError, ValueError):
        raise ValueError(
            'expected dates and their columns, such as { "2026-01-31" = "Jan" }'
        ) from None


def less_credit(amount: str, credit: str) -> str:
    """Return the name of the column in which credits are negative amounts."""
    return f"{amount} less {credit}"


def _share_or_none(value: Any) -> Any:
    return None if value is None else fraction(value)


#: Model → the name of its table in the scheme.
_PARTS_OF = {
    "OrdersPart": "orders", "LinesPart": "lines", "MoneyPart": "money",
    "CustomersPart": "customers", "TimePart": "time",
    "ScoresPart": "scores", "OutputPart": "output", "Tier": "tiers", "ValuePart": "value",
    "Segment": "segments", "Campaign": "campaigns",
}  # fmt: skip


def _described(schema: dict[str, Any], model: type[BaseModel]) -> None:
    """Add each key's description from ``settings`` to the JSON Schema."""
    for key, setting in of_part(_PARTS_OF.get(model.__name__, "")).items():
        schema["properties"][key]["description"] = setting.sentence
        if setting.measure:
            schema["properties"][key]["examples"] = columns.measures()


class Part(BaseModel):
    """One table of the scheme. Unknown keys are errors, values are strictly typed, and instances
    are frozen.
    """

    model_config = ConfigDict(
        extra="forbid", frozen=True, strict=True, json_schema_extra=_described
    )

    @classmethod
    def __pydantic_init_subclass__(cls, **_: Any) -> None:
        """Check that the model and ``settings``, which defines options and help, have the same
        keys.
        """
        settings = of_part(_PARTS_OF.get(cls.__name__, ""))
        keys = {known.alias or name for name, known in cls.model_fields.items()}
        if settings and keys != settings.keys():
            raise TypeError(
                f"{cls.__name__} and `settings` differ in {sorted(keys ^ settings.keys())}"
            )


class OrdersPart(Part):
    """``[orders]``: the column of each role, and how to read the rows."""

    customer: str | None = None
    order: str | None = None
    placed: str | None = None
    amount: str | None = None
    unit_price: str | None = None
    quantity: str | None = None
    discount: str | None = None
    name: str | None = None
    channel: str | None = None
    status: str | None = None
    currency: str | None = None
    cost: str | None = None
    amount_is: Literal["line", "order"] = "line"
    amount_unit: Literal["major", "minor"] | None = None
    discount_as: DiscountUnit | None = None
    drop: Literal["repeats", "repeats-across-files", "older-versions"] | None = None
    version: str | None = None
    allow: Annotated[tuple[str, ...], BeforeValidator(_as_tuple)] = ()
    where: str | None = None
    channel_customers: dict[str, str] | None = None
    channel_amounts: dict[str, str] | None = None
    day_amounts: Annotated[dict[dt.date, str] | None, BeforeValidator(_day_keys)] = None
    credit: str | None = None
    date_format: str | None = None
    decimal_mark: Literal[".", ","] | None = None
    encoding: str | None = None
    separator: Annotated[str | None, Field(min_length=1, max_length=1)] = None
    header_row: Annotated[int | None, BeforeValidator(_from_digits), Field(ge=0)] = None
    sheet: str | None = None
    spark: str | None = None
    kept_in: str | None = None
    table: str | None = None
    query: str | None = None

    @field_validator("date_format")
    @classmethod
    def _known_format(cls, style: str | None) -> str | None:
        names = ("iso", *DATE_ORDERS, SPREADSHEET_DAYS, *EPOCHS)
        if style is None or style in names:
            return style
        letters = set(re.findall(r"%-?([A-Za-z])", style))
        if letters & {"Y", "y"} and letters & {"m", "b", "B"} and "d" in letters:
            return style
        raise ValueError(
            f"{style!r} is not a date format; give {', '.join(names)}, or a pattern such as "
            "%d.%m.%y"
        )

    @model_validator(mode="after")
    def _one_way_to_the_amount(self) -> "OrdersPart":
        if self.amount and (self.unit_price or self.quantity):
            raise ValueError(
                "give either `amount`, or `unit_price` and `quantity` (and `discount`), not both"
            )
        if bool(self.unit_price) != bool(self.quantity):
            raise ValueError("`unit_price` and `quantity` go together")
        if self.discount and not self.unit_price and self.discount_as != "amount":
            raise ValueError(
                "`discount` needs `unit_price` and `quantity`; from an `amount` it can be taken "
                "off as money, with "
                '`discount_as = "amount"`'
            )
        if self.amount_is == "order" and self.unit_price:
            raise ValueError(
                '`amount_is = "order"` needs an `amount` column: price times quantity belongs to a line'
            )
        return self

    @model_validator(mode="after")
    def _version_of_what(self) -> "OrdersPart":
        if self.version and self.drop != "older-versions":
            raise ValueError('`version` goes with `drop = "older-versions"`')
        return self

    @model_validator(mode="after")
    def _one_shape(self) -> "OrdersPart":
        turned = {"channel_amounts": ("amount", "channel"), "day_amounts": ("amount", "placed")}
        both = [name for name in ("channel_customers", *turned) if getattr(self, name)]
        if len(both) > 1:
            raise ValueError(
                f"`{both[0]}` and `{both[1]}` cannot be combined: each turns columns into rows"
            )
        for name, makes in turned.items():
            if getattr(self, name) and (
                given := [
                    role
                    for role in (*makes, "unit_price", "discount", "credit")
                    if getattr(self, role)
                ]
            ):
                raise ValueError(
                    f"`{name}` already names the columns of amounts; remove `{given[0]}`"
                )
        if self.credit and (not self.amount or self.discount):
            raise ValueError(
                "`credit` needs `amount`, the column of purchases, and cannot be combined "
                "with `discount`"
            )
        return self

    def roles(self) -> dict[str, str]:
        """Return role → column, for the roles that are given."""
        return {role: name for role in ROLES if (name := getattr(self, role)) is not None}


class LinesPart(Part):
    """``[lines]``: a separate file of order lines, and its columns."""

    file: str | None = None
    order: str | None = None
    amount: str | None = None
    unit_price: str | None = None
    quantity: str | None = None
    discount: str | None = None

    @model_validator(mode="after")
    def _file_first(self) -> "LinesPart":
        if self.file is None and any(
            (self.order, self.amount, self.unit_price, self.quantity, self.discount)
        ):
            raise ValueError("`file` is missing: the file with the lines")
        return self


class MoneyPart(Part):
    """``[money]``: minor units, refunds, currency."""

    decimals: Annotated[int, Field(ge=0, le=4)] = 2
    refunds: Literal["net", "ignore"] = "net"
    currency: str | None = None
    rates: str | None = None
    columns: Annotated[tuple[str, ...], BeforeValidator(_as_tuple)] = ()

    @model_validator(mode="after")
    def _rates_lead_somewhere(self) -> "MoneyPart":
        if self.rates and not self.currency:
            raise ValueError("`rates` needs `currency`, the currency to convert into")
        return self


class CustomersPart(Part):
    """``[customers]``: the customers file and its columns."""

    file: str | None = None
    customer: str | None = None
    name: str | None = None
    since: str | None = None
    at_first: Annotated[tuple[str, ...], BeforeValidator(_as_tuple)] = ()
    at_latest: Annotated[tuple[str, ...], BeforeValidator(_as_tuple)] = ()
    encoding: str | None = None


class TimePart(Part):
    """``[time]``: the as-of date, the date range, the business time zone."""

    as_of: dt.date | None = None
    from_: Annotated[dt.date | None, Field(alias="from")] = None
    through: dt.date | None = None
    time_zone: str | None = None
    year_starts: Annotated[int | None, BeforeValidator(_as_month), Field(ge=1, le=12)] = None

    @field_validator("time_zone")
    @classmethod
    def _known_zone(cls, zone: str | None) -> str | None:
        if zone is not None:
            try:
                ZoneInfo(zone)
            except (KeyError, ValueError, OSError) as error:
                raise ValueError(
                    f"no such time zone: {zone!r}; give an IANA name such as Europe/Lisbon"
                ) from error
        return zone

    @model_validator(mode="after")
    def _forwards(self) -> "TimePart":
        for name, end in (("through", self.through), ("as_of", self.as_of)):
            if self.from_ and end and end < self.from_:
                raise ValueError(f"`{name}` ({end}) is before `from` ({self.from_})")
        return self


Numbers = Annotated[tuple[int | float, ...], BeforeValidator(_as_tuple)]
Percents = Annotated[tuple[int | float, ...], BeforeValidator(_as_percents)]


#: Weights above this, or below its inverse, would leave no effect of the other scores.
LARGEST_WEIGHT = 1_000_000


class ScoresPart(Part):
    """``[scores]``: the three ladders and the weights of their sum (recency, frequency,
    monetary).
    """

    rungs: Annotated[int, Field(ge=2, le=100)] = 5
    method: Literal["even", "inclusive", "exclusive", "inverse"] = "even"
    weights: Annotated[tuple[int | float, int | float, int | float], BeforeValidator(_as_tuple)] = (
        1,
        1,
        1,
    )
    shares: Numbers | None = None
    within: str | None = None
    percentile_of: str = "spend"

    @field_validator("weights")
    @classmethod
    def _weights_that_weigh(cls, weights: tuple[int | float, ...]) -> tuple[int | float, ...]:
        if not all(
            w == w and 0 <= w <= LARGEST_WEIGHT and (w == 0 or w >= 1 / LARGEST_WEIGHT)
            for w in weights
        ) or not any(weights):
            raise ValueError(
                f"weights are numbers from 0 (or 1/{LARGEST_WEIGHT:,}) to {LARGEST_WEIGHT:,}, not "
                "all 0"
            )
        return weights

    @model_validator(mode="after")
    def _shares_fit(self) -> "ScoresPart":
        _check_shares(self.shares, self.rungs, self.method)
        return self


def _check_shares(shares: tuple[int | float, ...] | None, rungs: int, method: str) -> None:
    if shares is None:
        return
    exact = [Fraction(str(s)) for s in shares]
    if method != "even":
        raise ValueError('`shares` go with `method = "even"` only')
    if len(exact) != rungs or sum(exact) != 1 or min(exact) <= 0:
        raise ValueError(
            f"`shares` must be {rungs} positive numbers that add up to 1, worst rung first"
        )


class Tier(Part):
    """``[tiers.NAME]``: a ladder with labels over any number or date column; customers get it as
    the column ``NAME``.
    """

    of: str
    top_percents: Percents | None = None
    spend_percents: Percents | None = None
    rungs: Annotated[int | None, Field(ge=2, le=100)] = None
    shares: Numbers | None = None
    labels: Annotated[tuple[str, ...] | None, BeforeValidator(_as_tuple)] = None
    ties: Literal["include", "exclude"] = "include"
    better: Literal["high", "low"] | None = None
    within: str | None = None

    @property
    def size(self) -> int:
        """The number of tiers."""
        percents = self.top_percents or self.spend_percents
        return len(percents) + 1 if percents else self.rungs or 0

    @model_validator(mode="after")
    def _one_way_to_cut(self) -> "Tier":
        ways = [w for w in (self.top_percents, self.spend_percents, self.rungs) if w is not None]
        if len(ways) != 1:
            raise ValueError("give one of `top_percents`, `spend_percents` and `rungs`")
        percents = self.top_percents if self.top_percents is not None else self.spend_percents
        if percents is not None and (
            not percents
            or list(percents) != sorted(set(percents))
            or percents[0] <= 0
            or percents[-1] >= 100
        ):
            raise ValueError("percentages must rise, between 0 and 100")
        if self.shares is not None:
            if self.rungs is None:
                raise ValueError("`shares` go with `rungs`")
            _check_shares(self.shares, self.rungs, "even")
        if self.ties == "exclude" and self.top_percents is None:
            raise ValueError("`ties` goes with `top_percents`")
        if self.labels is not None and (
            len(self.labels) != self.size or len(set(self.labels)) != self.size
        ):
            raise ValueError(f"`labels` must be {self.size} different names, best first")
        return self

    def names(self) -> tuple[str, ...]:
        """Return the names of the tiers, best first."""
        if self.labels is not None:
            return self.labels
        if self.top_percents is not None:
            return _percent_names("top", self.top_percents)
        if self.spend_percents is not None:
            return _percent_names("first", self.spend_percents)
        part, k = _PARTS.get(self.size), self.size
        if part is None:
            return tuple(f"{i} of {k}" for i in range(1, k + 1))
        return tuple(f"{nth} {part}" for nth in _ORDINALS[:k])


def _percent_names(best: str, percents: tuple[int | float, ...]) -> tuple[str, ...]:
    """Return names such as ``top 1 %``, ``1 to 5 %``, ``the rest``."""
    between = (f"{low:g} to {high:g} %" for low, high in pairwise(percents))
    return (f"{best} {percents[0]:g} %", *between, "the rest")


_PARTS = {2: "half", 3: "third", 4: "quarter", 5: "fifth", 6: "sixth", 8: "eighth", 10: "tenth"}
_ORDINALS = (
    "first",
    "second",
    "third",
    "fourth",
    "fifth",
    "sixth",
    "seventh",
    "eighth",
    "ninth",
    "tenth",
)


class ValuePart(Part):
    """``[value]``: the forecast of customer value."""

    horizon: Annotated[int, Field(ge=1, le=3650)] = 365
    margin: Annotated[int | float | None, BeforeValidator(_share_or_none), Field(gt=0, le=1)] = None
    discount_rate: Annotated[int | float, BeforeValidator(fraction), Field(ge=0, lt=1)] = 0.0
    method: Literal["best", "naive", "beta-geometric", "central beta-geometric", "Pareto"] = "best"
    backtest: dt.date | None = None
    season: Literal["auto", "off", "yearly"] = "auto"


class OutputPart(Part):
    """``[output]``: the format of CSV files."""

    separator: Literal[",", ";", "\t", "|"] = ","
    decimal_mark: Literal[".", ","] = "."
    byte_order_mark: bool = False
    days: Literal["iso", "day-first", "month-first"] = "iso"
    currency: Literal["none", "code", "sign"] = "none"

    @model_validator(mode="after")
    def _marks_differ(self) -> "OutputPart":
        if self.separator == self.decimal_mark:
            raise ValueError('a decimal comma needs another `separator`, such as ";"')
        return self


class Segment(Part):
    """One rule of ``[[segments]]``. The first rule whose condition matches decides a customer's
    segment.
    """

    name: Annotated[str, Field(min_length=1)]
    when: str | None = None
    otherwise: bool = False
    stance: Stance

    @model_validator(mode="after")
    def _one_condition(self) -> "Segment":
        if (self.when is None) == (not self.otherwise):
            raise ValueError('give either `when = "condition"` or `otherwise = true`')
        return self


_R, _F, _M = "recency_score", "frequency_score", "monetary_score"
DEFAULT_SEGMENTS: tuple[Segment, ...] = (
    Segment(name="no-orders-yet", when="orders = 0 AND refunds = 0", stance="welcome"),
    Segment(name="mainstay", when=f"{_R} >= 4 AND {_F} >= 4 AND {_M} >= 4", stance="keep"),
    Segment(
        name="drifting-mainstay", when=f"{_R} <= 2 AND {_F} >= 4 AND {_M} >= 4", stance="win-back"
    ),
    Segment(name="fresh-face", when=f"orders = 1 AND {_R} >= 4", stance="welcome"),
    Segment(name="building", when=f"{_R} >= 4", stance="grow"),
    Segment(name="dependable", when=f"{_R} = 3 AND ({_F} >= 3 OR {_M} >= 3)", stance="keep"),
    Segment(name="cooling", when=f"{_R} = 2 AND ({_F} >= 3 OR {_M} >= 3)", stance="win-back"),
    Segment(name="one-and-gone", when="orders = 1", stance="leave"),
    Segment(name="quiet", otherwise=True, stance="leave"),
)


Files = Annotated[tuple[str, ...], BeforeValidator(_as_tuple)]


class Campaign(Part):
    """One of ``[[campaigns]]``, in order of priority: eligibility, exclusions, size and holdout."""

    name: Annotated[str, Field(min_length=1)]
    when: str | None = None
    bought_from: dt.date | None = None
    bought_through: dt.date | None = None
    at_least: Annotated[int | float | None, Field(gt=0)] = None
    exclude: Files = ()
    consent: str | None = None
    contacted: Files = ()
    contacted_days: Annotated[int | None, Field(ge=1)] = None
    limit: Annotated[int | None, Field(ge=1)] = None
    budget: Annotated[int | float | None, Field(gt=0)] = None
    cost: Annotated[int | float | None, Field(gt=0)] = None
    response: Annotated[int | float | None, BeforeValidator(_share_or_none), Field(gt=0, le=1)] = (
        None
    )
    by: str = "spend"
    ties: Literal["include", "exclude"] | None = None
    holdout: Annotated[int | float, BeforeValidator(percent), Field(ge=0, lt=100)] = 0

    @model_validator(mode="after")
    def _fits_together(self) -> "Campaign":
        if self.limit is not None and self.budget is not None:
            raise ValueError(
                "give `limit` (a number of people) or `budget` and `cost` (of one contact), "
                "not both"
            )
        if (self.budget is None) != (self.cost is None):
            raise ValueError("`budget` and `cost` (of one contact) go together")
        if bool(self.contacted) != (self.contacted_days is not None):
            raise ValueError(
                "`contacted` (files of earlier lists) and `contacted_days` go together"
            )
        if self.bought_from and self.bought_through and self.bought_through < self.bought_from:
            raise ValueError(
                f"`bought_through` ({self.bought_through}) is before `bought_from` "
                f"({self.bought_from})"
            )
        return self

    @property
    def asks_for_purchase(self) -> bool:
        """True if eligibility depends on a single purchase."""
        return any(v is not None for v in (self.bought_from, self.bought_through, self.at_least))


class Scheme(Part):
    """All settings. Instances are frozen; ``with_options`` returns a changed copy."""

    orders: OrdersPart = OrdersPart()
    lines: LinesPart = LinesPart()
    money: MoneyPart = MoneyPart()
    customers: CustomersPart = CustomersPart()
    time: TimePart = TimePart()
    scores: ScoresPart = ScoresPart()
    value: ValuePart = ValuePart()
    output: OutputPart = OutputPart()
    tiers: dict[str, Tier] = Field(default_factory=dict)
    segments: Annotated[tuple[Segment, ...], BeforeValidator(_as_tuple)] = DEFAULT_SEGMENTS
    campaigns: Annotated[tuple[Campaign, ...], BeforeValidator(_as_tuple)] = ()

    @model_validator(mode="after")
    def _currency_known(self) -> "Scheme":
        if self.output.currency != "none" and self.money.currency is None:
            raise ValueError("[output] currency is needed: set `currency` under [money]")
        return self

    @model_validator(mode="after")
    def _campaign_names_differ(self) -> "Scheme":
        names = [c.name for c in self.campaigns]
        for name in names:
            if names.count(name) > 1:
                raise ValueError(f"two campaigns are named `{name}`; give each its own name")
        return self

    @model_validator(mode="after")
    def _segments_end(self) -> "Scheme":
        if self.segments is DEFAULT_SEGMENTS or self.segments == DEFAULT_SEGMENTS:
            if self.scores.rungs != 5:
                raise ValueError(
                    "the built-in segments are written for 5 rungs, not "
                    f"{self.scores.rungs}; write your own `[[segments]]` for another number"
                )
            return self
        if not self.segments or not self.segments[-1].otherwise:
            raise ValueError(
                "the last segment needs `otherwise = true`, so that every customer gets a segment"
            )
        for early in self.segments[:-1]:
            if early.otherwise:
                raise ValueError(
                    f"segment `{early.name}` has `otherwise` but is not the last; later "
                    "segments would never apply"
                )
        names = [s.name for s in self.segments]
        for name in names:
            if names.count(name) > 1:
                raise ValueError(f"two segments are named `{name}`; give each its own name")
        return self

    def order_columns(self) -> OrdersPart:
        """Return ``[orders]`` merged with the columns of ``[lines]``, as they are named in the
        joined rows.

        Raises SchemeError if both name an amount or the order id is not known.
        """
        changes: dict[str, Any] = {}
        if self.lines.file is not None:
            if self.orders.order is None:
                raise SchemeError(
                    "[lines] needs the order id: name its column under [orders] order."
                )
            own = ("amount", "unit_price", "quantity", "discount")
            changes = {
                name: getattr(self.lines, name)
                for name in own
                if getattr(self.lines, name) is not None
            }
        if self.orders.channel_customers:
            changes |= {"customer": "customer", "channel": "channel"}
        if self.orders.channel_amounts:
            changes |= {"channel": "channel", "channel_amounts": None}
        if self.orders.day_amounts:
            changes |= {"placed": "placed", "day_amounts": None}
        if self.orders.channel_amounts or self.orders.day_amounts:
            changes |= {"amount": "amount"}
        if self.orders.credit:
            changes |= {
                "amount": less_credit(self.orders.amount or "", self.orders.credit),
                "credit": None,
            }
        return scheme_from(
            {"orders": {**self.orders.model_dump(exclude_none=True), **changes}},
            "[orders] and [lines]",
        ).orders

    def spoken_of(self) -> list[str]:
        """Return every condition and measure of the scheme that can use columns of customers."""
        rules = [s.when or "" for s in self.segments]
        return [*rules, *(t.of for t in self.tiers.values()), self.scores.percentile_of]

    def own_names(self) -> dict[str, str]:
        """Return the customers file's names for id and name → their names in the customers
        table.
        """
        own = {
            self.customers.customer or self.orders.customer: "customer",
            self.customers.name: "name",
        }
        return {name: ours for name, ours in own.items() if name}

    def with_options(self, **parts: Mapping[str, Any]) -> "Scheme":
        """Return a copy with the given keys replaced, such as ``with_options(time={"as_of":
        day})``.
        """
        settings = self.settings()
        for part, changes in parts.items():
            settings[part] = {
                **settings.get(part, {}),
                **{k: v for k, v in changes.items() if v is not None},
            }
        return scheme_from(settings, "options")

    def settings(self) -> dict[str, Any]:
        """Return the keys that differ from the defaults, nested as in the TOML file."""
        return self.model_dump(by_alias=True, exclude_defaults=True)

    def as_json(self) -> dict[str, Any]:
        """Return all settings, including defaults, as plain JSON values."""
        return self.model_dump(mode="json", by_alias=True)


def load_scheme(path: str | Path) -> Scheme:
    """Read a scheme file. Relative paths in it are relative to the file's folder.

    Raises SchemeError if the file is missing, is not TOML, or has an unknown key or a wrong value.

    >>> import fairladder as fl
    >>> fl.load_scheme(fl.sample_shop("scheme.toml")).time.as_of.isoformat()
    '2026-06-30'
    """
    file = Path(path)
    try:
        text = file.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise SchemeError(
            f"There is no scheme file {str(file)!r}. Check the path given with --scheme."
        ) from None
    except (OSError, UnicodeDecodeError) as error:
        raise SchemeError(f"The scheme file {str(file)!r} cannot be read: {error}.") from error
    try:
        settings = tomllib.loads(text)
    except RecursionError:
        raise SchemeError(f"{file} is nested too deeply for a scheme.") from None
    except tomllib.TOMLDecodeError as error:
        raise SchemeError(f"{file} is not valid TOML: {shortened(str(error))}.") from error
    except ValueError:
        raise SchemeError(
            f"{file} contains a number with thousands of digits. Write a shorter one."
        ) from None
    scheme = scheme_from(settings, str(file), text)
    resolved_paths = {
        part: {key: str(file.parent / path)}
        for part, key, path in (
            ("customers", "file", scheme.customers.file),
            ("lines", "file", scheme.lines.file),
            ("money", "rates", scheme.money.rates),
        )
        if path and not Path(path).is_absolute()
    }
    if any(c.exclude or c.contacted for c in scheme.campaigns):
        campaigns = tuple(
            c.model_copy(
                update={
                    key: tuple(str(file.parent / f) for f in getattr(c, key))
                    for key in ("exclude", "contacted")
                }
            )
            for c in scheme.campaigns
        )
        scheme = scheme.model_copy(update={"campaigns": campaigns})
    return scheme.with_options(**resolved_paths) if resolved_paths else scheme


def scheme_from(settings: Mapping[str, Any], where: str, text: str = "") -> Scheme:
    """Validate nested settings. ``where`` names their source in errors, and ``text`` provides line
    numbers.
    """
    try:
        return Scheme.model_validate(settings)
    except ValidationError as error:
        problems = list(_problems(error, text))
        more = f"\n… and {len(problems) - 5} more" if len(problems) > 5 else ""
        raise SchemeError("\n".join(f"{where}: {p}" for p in problems[:5]) + more) from None


def _problems(error: ValidationError, text: str) -> Iterator[str]:
    for item in error.errors():
        path = [p for p in item["loc"] if not str(p).startswith("function-")]
        spot = _dotted(path) + _line(path, text)
        if item["type"] == "extra_forbidden":
            yield f"{spot}: unknown key. {nearest(str(path[-1]), _sibling_keys(path))}"
        elif item["type"] == "missing":
            yield f"{spot}: this key is missing"
        else:
            said = item["msg"].removeprefix("Value error, ").replace("Input should be", "expected")
            said = re.sub("^expected (greater|less)", r"expected a number \1", said)
            message = _EXPECTED.get(item["type"]) or said
            got = (
                ""
                if item["type"] == "value_error"
                else f", not {shortened(repr(item['input']), 80)}"
            )
            yield f"{spot}: {message}{got}" if spot else message


#: Descriptions of the expected type for wrong values.
_EXPECTED = {
    "model_type": "expected a table of settings: [name] with keys below it",
    "dict_type": "expected a table: [name.key] with keys below it",
    "tuple_type": "expected a list, such as [a, b]", "string_type": "expected text in quotes",
    "bool_type": "expected true or false",
    "date_type": "expected a date without quotes, such as 2026-06-30",
}  # fmt: skip


def _dotted(path: list[int | str]) -> str:
    text = ""
    for step in path:
        text += f"[{step + 1}]" if isinstance(step, int) else f"{'.' if text else ''}{step}"
    return text


def _sibling_keys(path: list[int | str]) -> list[str]:
    model: type[BaseModel] = Scheme
    for step in path[:-1]:
        if isinstance(step, str) and step in model.model_fields:
            kind = model.model_fields[step].annotation
            model = {"segments": Segment, "tiers": Tier, "campaigns": Campaign}.get(step, kind)  # type: ignore[assignment, arg-type]
    return [field.alias or name for name, field in model.model_fields.items()]


def _line(path: list[int | str], text: str) -> str:
    """Return `` (line 12)`` for the key at ``path`` if the TOML text shows it clearly, else an
    empty text.
    """
    if not text or not path:
        return ""
    head, nth = str(path[0]), next((p for p in path if isinstance(p, int)), 0)
    section, seen = "", -1
    for number, raw in enumerate(text.splitlines(), start=1):
        if opened := re.match(r"\s*\[+\s*([^\]]+?)\s*\]+", raw):
            section = opened[1]
            seen += raw.lstrip().startswith("[[") and section == head
            if len(path) == 1 and section == head:
                return f" (line {number})"
        elif (key := re.match(r"\s*\"?([\w-]+)\"?\s*=", raw)) and key[1] == str(path[-1]):
            in_place = section == head if len(path) > 1 else section == ""
            if in_place and (seen == nth or not isinstance(path[1] if len(path) > 1 else "", int)):
                return f" (line {number})"
    return ""
