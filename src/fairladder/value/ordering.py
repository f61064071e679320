"""The interface of the ordering models, and how they are fitted."""

from collections.abc import Mapping
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from fairladder.value.beta_geometric import BetaGeometric
from fairladder.value.buying import Buying
from fairladder.value.likelihood import Array, Fit, fit
from fairladder.value.pareto import Pareto

#: Rows in the sample that a fit uses for its first steps.
GLANCE = 8_000


class OrderingModel(Protocol):
    """The interface of a model of ordering. ``p`` are its parameters in days; x, t_x, T as in
    ``Buying``, (rows,).
    """

    @property
    def name(self) -> str:
        """The model's name in tables."""

    @property
    def names(self) -> tuple[str, ...]:
        """Names of its parameters."""

    @property
    def times(self) -> tuple[bool, ...]:
        """Which parameters are times; the others do not depend on the unit."""

    def starts(self, rate: float) -> list[Array]:
        """Return log parameters to start a fit from."""

    def log_likelihood(self, p: Array, x: Array, t_x: Array, T: Array) -> tuple[Array, Array]:
        """Return the log-likelihood of each row and its gradient by the log parameters."""

    def active_probability(self, p: Array, x: Array, t_x: Array, T: Array) -> Array:
        """Return the probability of not having left by T."""

    def expected_if_active(self, p: Array, x: Array, T: Array, t: float) -> Array:
        """Return the expected purchases in the t days after T of active customers."""

    def expected_if_changed(
        self, p: Array, x: Array, T: Array, t: float, leaving: float, rate: float
    ) -> Array:
        """Return ``expected_if_active`` if from now on they leave ``leaving`` times as fast, and
        order ``rate`` times as often.
        """

    def expected_from_start(self, p: Array, t: Array) -> Array:
        """Return the expected repeat purchases of a new customer in the first t days."""

    def simulate_if_active(
        self, p: Array, x: Array, T: Array, t: float, random: np.random.Generator
    ) -> NDArray[np.int64]:
        """Draw purchases in the t days after T of active customers."""


MODELS: Mapping[str, OrderingModel] = {
    m.name: m for m in (BetaGeometric(), BetaGeometric(central=True), Pareto())
}


def fit_ordering(model: OrderingModel, buying: Buying, near: Fit | None = None) -> Fit:
    """Fit by maximum likelihood, in units of the average observation; parameters and likelihood in
    days.

    ``near`` is a fit of the same model to similar customers, used as the start.
    """
    unit = buying.unit
    scaled = buying.scaled(unit)
    few = scaled.sample(GLANCE)
    observed = float(scaled.weight @ scaled.T)
    rate = max(float(scaled.weight @ scaled.x), 0.5) / max(observed, 1e-9)

    def objective(rows: Buying) -> "_Sum":
        return _Sum(model, rows)

    scales = np.array([unit if time else 1.0 for time in model.times])
    starts = model.starts(rate) if near is None else [np.log(near.values / scales)]
    fitted = fit(
        model.name, model.names, objective(scaled), starts, scales, customers=buying.customers,
        constant=-float(buying.weight @ buying.x) * float(np.log(unit)),
        glance=objective(few) if few is not scaled else None,
    )  # fmt: skip
    return _with_limits(fitted, buying)


class _Sum:
    """Log-likelihood of all customers at log parameters, and its gradient."""

    def __init__(self, model: OrderingModel, rows: Buying) -> None:
        self.model, self.rows = model, rows

    def __call__(self, theta: Array) -> tuple[float, Array]:
        rows = self.rows
        value, slope = self.model.log_likelihood(np.exp(theta), rows.x, rows.t_x, rows.T)
        return float(rows.weight @ value), slope @ rows.weight


#: Customers whose rates are spread like a gamma distribution of this shape differ by a tenth.
ALIKE = 100.0


def _with_limits(fitted: Fit, buying: Buying) -> Fit:
    """Add notes on parameters that have no use or no end: customers do not differ in something, or
    never do it.
    """
    notes: list[str] = []
    p, explained = fitted.parameters, set(fitted.at_bound)
    for pair in (("r", "alpha"), ("s", "beta"), ("a", "b")):
        if pair[0] in fitted.vague and p[pair[0]] > ALIKE:
            explained |= set(pair)
    if not float(buying.weight @ buying.x):
        notes.append(
            "No customer has ordered on a second day, so no ordering rate can be estimated."
        )
    elif {"r", "alpha"} & explained:
        notes.append(
            f"In the {fitted.model} model all customers order at the same rate, once in "
            f"{p['alpha'] / p['r']:,.0f} days."
        )
    if {"a", "b", "s", "beta"} & explained:
        if "s" in p:
            days = p["beta"] / p["s"]
            never, words = (
                days > 100 * buying.unit,
                f"all customers are equally likely to leave, after {days:,.0f} days on average",
            )
        else:
            chance = p["a"] / (p["a"] + p["b"])
            never, words = (
                chance < 1e-3,
                (
                    "all customers are equally likely to leave after an order, "
                    f"{100 * chance:.1f} % each time"
                ),
            )
        if never:
            words = (
                "no customer leaves for good; the forecast is that all keep their rate of ordering"
            )
        notes.append(f"In the {fitted.model} model {words}.")
    return fitted.with_notes(notes, explained)
