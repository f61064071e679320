"""Gamma-gamma model of spend: the expected value of a customer's orders, given the few that were
observed.

Order values are gamma(p, ν) around each customer's own level, ν ~ gamma(q, γ) among customers [1].

References
----------
.. [1] P. Fader, B. Hardie (2013), The gamma-gamma model of monetary value (note 25 of the authors).
"""

from dataclasses import dataclass

import numpy as np
import pandas as pd
from scipy.special import digamma, gammaln

from fairladder import wording
from fairladder.errors import DataError
from fairladder.value.likelihood import Array, Fit, distinct, fit

NAMES = ("p", "q", "gamma")
#: A rank correlation above this means that order value depends on the number of orders.
DEPENDENT = 0.1


def log_likelihood(p: Array, n: Array, mean: Array) -> tuple[Array, Array]:
    """Return the log-likelihood of the average ``mean`` of ``n`` orders, (customers,), and its
    gradient by log parameters, (3, customers).
    """
    shape, q, gamma = p
    seen, back = distinct(n)
    seen = np.maximum(seen, 1)  # every customer has one
    pn = shape * seen
    fixed = gammaln(pn + q) - gammaln(pn) - gammaln(q) + pn * np.log(seen)
    both, log_mean = gamma + mean * n, np.log(mean)
    log_both = np.log(both)
    k = shape * n
    value = fixed[back] + q * np.log(gamma) + (k - 1) * log_mean - (k + q) * log_both
    d_p = (seen * (digamma(pn + q) - digamma(pn) + np.log(seen)))[back] + n * (log_mean - log_both)
    d_q = (digamma(pn + q) - digamma(q))[back] + np.log(gamma) - log_both
    return value, np.stack([shape * d_p, q * d_q, q - gamma * (k + q) / both])


@dataclass(frozen=True)
class SpendModel:
    """The fitted spend model, and how far order value depends on the number of orders, which the
    model assumes it does not.

    ``correlation`` is the rank correlation of the average order and the number of orders among
    customers with at least two (NaN below three of them). If the data show a dependence, values are
    divided by the number of orders to the ``power`` before the model is fitted.
    """

    fit: Fit
    correlation: float
    power: float = 0.0

    @property
    def usable(self) -> bool:
        """True if the model's mean is finite; otherwise customers' own averages are used."""
        return self.fit.parameters["q"] > 1

    def expected(self, n: Array, mean: Array) -> Array:
        """Return the expected order value of customers with ``n`` orders of ``mean`` on average, in
        major units.
        """
        if not self.usable:
            return mean
        p, q, _ = self.fit.values
        return np.asarray(p * self.scale(n, mean) / (p * n + q - 1))

    def scale(self, n: Array, mean: Array) -> Array:
        """Return the unit of the model's draws for each customer; the customer's own average if the
        model cannot be used.
        """
        if not self.usable:
            return mean
        level = n**self.power
        return np.asarray((self.fit.parameters["gamma"] + mean / level * n) * level)


def fit_spend(n: Array, mean: Array) -> SpendModel:
    """Fit to customers' numbers of orders (at least 1) and average order (above 0, any unit).

    Raises DataError without customers.
    """
    if not len(n):
        raise DataError("No customer has bought anything, so order values cannot be estimated.")
    power = _power(n, mean)
    unit = float(np.exp(np.log(mean).mean()))
    scaled = mean / n**power / unit
    every = np.unique(np.linspace(0, len(n) - 1, 20_000).round().astype(np.int64))
    share = len(n) / len(every)

    def objective(theta: Array) -> tuple[float, Array]:
        value, slope = log_likelihood(np.exp(theta), n, scaled)
        return float(value.sum()), slope.sum(axis=1)

    def glance(theta: Array) -> tuple[float, Array]:
        value, slope = log_likelihood(np.exp(theta), n[every], scaled[every])
        return float(value.sum()) * share, slope.sum(axis=1) * share

    starts = [np.log([4.0, 3.0, 1.0]), np.log([1.5, 8.0, 5.0]), np.log([20.0, 4.0, 0.2])]
    fitted = fit(
        "gamma-gamma", NAMES, objective, starts, np.array([1, 1, unit]), customers=len(n),
        constant=-len(n) * float(np.log(unit)), glance=glance if len(n) > len(every) else None,
    )  # fmt: skip
    correlation = _correlation(n, mean)
    return SpendModel(_with_words(fitted, correlation, power), correlation, power)


#: A power is used if it is this many standard errors from zero, and this large.
SURE, LEAST_POWER = 4.0, 0.05


def _power(n: Array, mean: Array) -> float:
    """Return how order values depend on the number of orders: β of E[value] = e^(α + β ln n) by
    quasi-likelihood with a constant coefficient of variation and standard errors clustered by
    customer; 0 if it is not certain.

    Logarithms of the averages would be biased: they are lower for customers with few orders even if
    all are equal.
    """
    if len(n) < 100 or np.ptp(n) == 0:
        return 0.0
    given = np.column_stack([np.ones(len(n)), np.log(n)])
    weights = np.array([np.log(mean.mean()), 0.0])
    bend = given.T @ given
    for _ in range(100):
        ratio = mean / np.exp(given @ weights) - 1
        step = np.linalg.solve(bend, given.T @ ratio)
        weights = weights + np.clip(step, -0.5, 0.5)
        if np.abs(step).max() < 1e-9:
            break
    scores = given * (mean / np.exp(given @ weights) - 1)[:, None]
    inverse = np.linalg.inv(bend)
    error = float(np.sqrt((inverse @ (scores.T @ scores) @ inverse)[1, 1]))
    power = float(weights[1])
    return float(np.clip(power, -1, 1)) if abs(power) > max(SURE * error, LEAST_POWER) else 0.0


def _correlation(n: Array, mean: Array) -> float:
    """Return the rank correlation of both among customers with two orders or more (an even sample
    if there are very many).
    """
    among = np.flatnonzero(n >= 2)
    some = among[:: max(len(among) // 100_000, 1)]
    if len(some) < 3 or np.ptp(n[some]) == 0 or np.ptp(mean[some]) == 0:
        return float("nan")
    return float(pd.Series(n[some]).rank().corr(pd.Series(mean[some]).rank()))


def _with_words(fitted: Fit, correlation: float, power: float) -> Fit:
    notes: list[str] = []
    if fitted.parameters["q"] <= 1:
        notes.append(
            "The spend model's mean is infinite (q ≤ 1): a few orders are so large that no "
            "average can be estimated. Each customer's own average is used instead."
        )
    elif {"q", "gamma"} & set(fitted.at_bound):
        notes.append(
            "The spend model finds no difference between customers' order values beyond chance."
        )
    elif fitted.at_bound:
        notes.append(
            "The spend model finds that each customer's orders are equal; their own average "
            "is the forecast."
        )
    if power:
        notes.append(
            f"Customers who order more often place {'larger' if power > 0 else 'smaller'} orders: "
            "twice as many orders go with "
            f"{wording.signed_percent(2**power - 1)} in value. The spend model takes that into account."
        )
    elif abs(correlation) > DEPENDENT:
        way = "larger" if correlation > 0 else "smaller"
        notes.append(
            f"Customers who order more often place {way} orders (rank correlation "
            f"{wording.signed(correlation, 2)}), but the spend model assumes independence: forecasts of "
            f"frequent customers are somewhat too {'low' if correlation > 0 else 'high'}."
        )
    return fitted.with_notes(notes)
