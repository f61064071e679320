"""Pareto/NBD model of ordering: purchases at a constant rate for a lifetime whose end is not
observed.

Rates λ ~ gamma(r, α), lifetimes exponential with rates μ ~ gamma(s, β) [1]. The likelihood's
integral over the day of leaving is computed by Gauss–Legendre quadrature of logarithms, which
neither overflows (textbook forms do from about 200 purchases on) nor cancels if t_x is near T.
Times are taken relative to α and β, since r ln α and r ln(α + T) cancel if customers are alike.

References
----------
.. [1] D. Schmittlein, D. Morrison, R. Colombo (1987), Counting your customers: who are they and
   what will they do next?, Management Science 33(1).
"""

import os
from concurrent.futures import ThreadPoolExecutor
from contextlib import nullcontext
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray
from scipy.special import exprel

from fairladder.value.likelihood import Array, distinct, rising, softmax

#: After this fall of its logarithm an integrand adds nothing to a sum of doubles.
_NEGLIGIBLE = 42.0
_ROWS = 8_000
_CORES = min(os.cpu_count() or 1, 8)
#: For this many nodes, the longest interval in ln(y), and the largest fall of the logarithm, with
#: an error up to 1e-12.
_NODES = ((8, 1.6, 3.5), (12, 3.2, 9.0), (24, 8.0, 30.0), (64, np.inf, np.inf))
_RULES = {n: np.polynomial.legendre.leggauss(n) for n, *_ in _NODES}


@dataclass(frozen=True)
class Pareto:
    """The model. Parameters: r, α (days), s, β (days)."""

    name = "Pareto"
    names = ("r", "alpha", "s", "beta")
    times = (False, True, False, True)

    def starts(self, rate: float) -> list[Array]:
        """Return log parameters to start from, for ``rate`` repeat purchases per unit of time."""
        return [
            np.log([r, r / rate, s, beta])
            for r, s, beta in ((0.5, 0.6, 1.0), (2.0, 0.4, 0.4), (0.3, 1.5, 3.0))
        ]

    def log_likelihood(self, p: Array, x: Array, t_x: Array, T: Array) -> tuple[Array, Array]:
        """Return the log-likelihood of each row, (rows,), and its gradient by the log parameters,
        (4, rows).
        """
        r, alpha, s, beta = p
        seen, back = distinct(x)
        rise, d_rise = rising(r, seen)
        u_end, w_end = np.log1p(T / alpha), np.log1p(T / beta)
        stayed = -(r + x) * u_end - s * w_end
        left, (u, near_a, w, near_b) = self._left(p, x, t_x, T)
        both, (there, inactive) = _joined(stayed, left)
        slope = np.stack([
            r * (d_rise[back] - there * u_end - inactive * u),
            (r + x) * (there * T / (alpha + T) + inactive * near_a) - x,
            inactive - s * (there * w_end + inactive * w),
            s * there * T / (beta + T) + inactive * ((s + 1) * near_b - 1),
        ])  # fmt: skip
        return rise[back] - x * np.log(alpha) + both, slope

    def _left(self, p: Array, x: Array, t_x: Array, T: Array) -> tuple[Array, Array]:
        """Return ln ∫ s/β (1 + y/α)^−(r + x) (1 + y/β)^−(s + 1) dy from t_x to T, and averages
        under the integrand, (4, rows): of ln(1 + y/α), y / (α + y), ln(1 + y/β) and y / (β + y).

        In z = ln(min(α, β) + y) the integrand is smooth; its tail is cut off where it is
        negligible.
        """
        r, alpha, s, beta = p
        near = min(alpha, beta)
        length = np.log1p((T - t_x) / (near + t_x))
        fall = (r + x) * (near + t_x) / (alpha + t_x) + (s + 1) * (near + t_x) / (beta + t_x) - 1
        length = np.where(
            fall * length > _NEGLIGIBLE, _NEGLIGIBLE / np.where(fall > 0, fall, 1.0), length
        )
        end = (near + t_x) * np.exp(length)
        slope_there = (r + x) * end / (alpha - near + end) + (s + 1) * end / (beta - near + end) - 1
        deepest = np.abs(slope_there * length)
        value, averages = np.full(len(x), -np.inf), np.zeros((4, len(x)))
        rest = length > 0
        for nodes, longest, most in _NODES:
            these = np.flatnonzero(rest & (length <= longest) & (deepest <= most))
            rest[these] = False
            if not len(these):
                continue
            parts = np.array_split(these, max(len(these) * nodes // (16 * _ROWS), 1))
            work = partial(self._part, p, x, t_x, length, nodes)
            with (
                ThreadPoolExecutor(_CORES) if len(parts) > 1 else nullcontext() as cores
            ):  # NumPy releases Python's lock
                for rows, found in zip(
                    parts, (cores.map if cores else map)(work, parts), strict=True
                ):
                    value[rows], averages[:, rows] = found
        return value, averages

    def _part(
        self, p: Array, x: Array, t_x: Array, length: Array, nodes: int, rows: NDArray[np.int64]
    ) -> tuple[Array, Array]:
        return self._integral(p, x[rows], t_x[rows], length[rows], nodes)

    def _integral(
        self, p: Array, x: Array, t_x: Array, length: Array, nodes: int
    ) -> tuple[Array, Array]:
        r, alpha, s, beta = p
        near = min(alpha, beta)
        at, weights = _RULES[nodes]
        z = length[:, None] * ((1 + at) / 2)
        y = t_x[:, None] + (near + t_x)[:, None] * np.expm1(z)
        far = np.log1p(y / max(alpha, beta))
        close = np.log1p(t_x / near)[:, None] + z
        u, w = (close, far) if alpha <= beta else (far, close)
        sums, shares = softmax(-(r + x)[:, None] * u - (s + 1) * w + z + np.log(weights))
        value = sums + np.log(s / beta * length / 2 * (near + t_x))
        return value, np.stack([_mean(shares, v) for v in (u, y / (alpha + y), w, y / (beta + y))])

    def active_probability(self, p: Array, x: Array, t_x: Array, T: Array) -> Array:
        """Return the probability that a customer has not left by T; it falls with T also without a
        repeat purchase.
        """
        r, alpha, s, beta = p
        stayed = -(r + x) * np.log1p(T / alpha) - s * np.log1p(T / beta)
        return _joined(stayed, self._left(p, x, t_x, T)[0])[1][0]

    def expected_if_active(self, p: Array, x: Array, T: Array, t: float) -> Array:
        """Return the expected purchases in the t days after T of active customers; smooth at s
        = 1.
        """
        r, alpha, s, beta = p
        ahead = np.log1p(t / (beta + T))
        return np.asarray((r + x) * (beta + T) / (alpha + T) * ahead * exprel(-(s - 1) * ahead))

    def expected_if_changed(
        self, p: Array, x: Array, T: Array, t: float, leaving: float, rate: float
    ) -> Array:
        """Return ``expected_if_active`` if from now on customers leave ``leaving`` times as fast,
        and orders come ``rate`` times as often.
        """
        return np.asarray(rate / leaving * self.expected_if_active(p, x, T, leaving * t))

    def expected_from_start(self, p: Array, t: Array) -> Array:
        """Return the expected repeat purchases of a new customer in the first ``t`` days,
        (times,).
        """
        r, alpha, s, beta = p
        ahead = np.log1p(t / beta)
        return np.asarray(r * beta / alpha * ahead * exprel(-(s - 1) * ahead))

    def simulate_if_active(
        self, p: Array, x: Array, T: Array, t: float, random: np.random.Generator
    ) -> NDArray[np.int64]:
        """Draw purchases in the t days after T of active customers; ``p`` (4, …), ``x`` and ``T``
        are broadcast.
        """
        r, alpha, s, beta = p
        rate = random.standard_gamma(r + x) / (alpha + T)
        leaving = random.standard_gamma(s + 0 * x) / (beta + T)
        stay = random.standard_exponential(np.shape(rate)) / np.maximum(leaving, 1e-300)
        return np.asarray(random.poisson(np.minimum(rate * np.minimum(stay, t), 1e9)))


def _joined(one: Array, two: Array) -> tuple[Array, tuple[Array, Array]]:
    """Return ln(e^one + e^two), and the shares of both."""
    both = np.logaddexp(one, two)
    return both, (np.exp(one - both), np.exp(two - both))


def _mean(shares: Array, of: Array) -> Array:
    """Return the average of each row under its shares."""
    return np.asarray(np.einsum("ij,ij->i", shares, of))
