"""Beta-geometric/NBD model of ordering: purchases at a constant rate until the customer leaves
after one of them.

Rates λ ~ gamma(r, α), probabilities of leaving p ~ beta(a, b) [1]. In the central form the customer
can also leave after the first purchase [2]; in the original only after a repeat purchase. All
expectations here are integrals over p by Gauss–Jacobi quadrature, which has no singularity at a = 1
or a + b = 1 and does not overflow, unlike the hypergeometric forms.

References
----------
.. [1] P. Fader, B. Hardie, K. L. Lee (2005), "Counting your customers" the easy way: an
   alternative to the Pareto/NBD model, Marketing Science 24(2).
.. [2] E. Batislam, M. Denizel, A. Filiztekin (2007), Empirical validation and comparison of
   models for customer base analysis, International Journal of Research in Marketing 24(3);
   D. Hoppe, U. Wagner (2007), Marketing JRM 3(2).
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import eigh_tridiagonal
from scipy.special import expit

from fairladder.value.likelihood import Array, distinct, rising


@dataclass(frozen=True)
class BetaGeometric:
    """The model; with ``central`` customers can leave after their first purchase. Parameters: r, α
    (days), a, b.
    """

    central: bool = False

    @property
    def name(self) -> str:
        """The model's name in tables."""
        return "central beta-geometric" if self.central else "beta-geometric"

    names = ("r", "alpha", "a", "b")
    times = (False, True, False, False)

    def starts(self, rate: float) -> list[Array]:
        """Return log parameters to start from, for ``rate`` repeat purchases per unit of time."""
        r = np.array([0.5, 2.0, 0.2])
        ab = np.array([(0.8, 2.5), (0.3, 3.0), (3.0, 10.0)])
        return [np.log([ri, ri / rate, *pair]) for ri, pair in zip(r, ab, strict=True)]

    def _coins(self, x: Array) -> Array:
        """Return the number of occasions on which the customer could have left."""
        return x + 1 if self.central else x

    def log_likelihood(self, p: Array, x: Array, t_x: Array, T: Array) -> tuple[Array, Array]:
        """Return the log-likelihood of each row, (rows,), and its gradient by the log parameters,
        (4, rows).
        """
        r, alpha, a, b = p
        n = self._coins(x)
        seen, back = distinct(x)
        coins = self._coins(seen)
        (rise, d_r), (by_b, d_b), (by_both, d_both) = (
            rising(start, of) for start, of in ((r, seen), (b, coins), (a + b, coins))
        )
        u_end, u_last = np.log1p(T / alpha), np.log1p(t_x / alpha)
        odds = self._log_odds(p, x, np.log1p((T - t_x) / (alpha + t_x)))
        inactive = expit(odds)
        left = np.where(n > 0, 1 / (b + np.where(n > 0, n, 1) - 1), 0.0)
        value = (rise + by_b - by_both)[back] - x * np.log(alpha) - (r + x) * u_end
        slope = np.stack([
            r * (d_r[back] - (1 - inactive) * u_end - inactive * u_last),
            (r + x) * ((1 - inactive) * T / (alpha + T) + inactive * t_x / (alpha + t_x)) - x,
            inactive - a * d_both[back],
            b * ((d_b - d_both)[back] - inactive * left),
        ])  # fmt: skip
        return value + np.logaddexp(0, odds), slope

    def _log_odds(self, p: Array, x: Array, gap: Array) -> Array:
        """Return the log odds of having left by the end, −inf if that is impossible; ``gap`` =
        ln((α + T) / (α + t_x)).
        """
        r, _, a, b = p
        n = self._coins(x)
        logs = np.log(a) - np.log(b + np.where(n > 0, n, 1) - 1) + (r + x) * gap
        return np.where(n > 0, logs, -np.inf)

    def active_probability(self, p: Array, x: Array, t_x: Array, T: Array) -> Array:
        """Return the probability that a customer has not left by T; exactly 1 without a repeat
        purchase, unless central.
        """
        return np.asarray(expit(-self._log_odds(p, x, np.log1p((T - t_x) / (p[1] + t_x)))))

    def expected_if_active(self, p: Array, x: Array, T: Array, t: float) -> Array:
        """Return the expected purchases in the t days after T of active customers: E[(1 − (1 + p
        τ)^−(r + x)) / p], τ = t / (α + T).
        """
        r, alpha, a, b = p
        ahead = t / (alpha + T)
        steep = (r + x) * ahead / (a + b + x)
        expected = np.empty(len(x))
        for nodes, least, most in _NODES:
            rows = np.flatnonzero((steep >= least) & (steep < most))
            seen, back = np.unique(x[rows], return_inverse=True)
            for few in np.array_split(np.arange(len(seen)), max(len(seen) * nodes // 3000, 1)):
                at, weights = _beta_rule(a, b + self._coins(seen[few]), nodes)
                these = np.flatnonzero(np.isin(back, few))
                for part in np.array_split(these, max(len(these) * nodes // 1_000_000, 1)):
                    row, of = rows[part], back[part] - few[0] if len(few) else back[part]
                    inactive = (
                        -np.expm1(-(r + x[row])[:, None] * np.log1p(at[of] * ahead[row, None]))
                        / at[of]
                    )
                    expected[row] = np.einsum("ij,ij->i", weights[of], inactive)
        return expected

    def expected_if_changed(
        self, p: Array, x: Array, T: Array, t: float, leaving: float, rate: float
    ) -> Array:
        """Return ``expected_if_active`` if from now on each order makes customers leave ``leaving``
        times as often, and orders come ``rate`` times as often.

        With p' = leaving · p and λ' = rate · λ the integrand is that of t' = leaving · rate · t,
        divided by leaving.
        """
        return np.asarray(self.expected_if_active(p, x, T, leaving * rate * t) / leaving)

    def expected_from_start(self, p: Array, t: Array) -> Array:
        """Return the expected repeat purchases of a new customer in the first ``t`` days,
        (times,).
        """
        r, alpha, a, b = p
        nodes, weights = _beta_rule(a, np.array([b + 1 if self.central else b]), 400)
        stays = b / (a + b) if self.central else 1.0
        inactive = -np.expm1(-r * np.log1p(nodes * (t / alpha)[:, None])) / nodes
        return np.asarray(stays * (inactive @ weights[0]))

    def simulate_if_active(
        self, p: Array, x: Array, T: Array, t: float, random: np.random.Generator
    ) -> NDArray[np.int64]:
        """Draw purchases in the t days after T of active customers; ``p`` (4, …), ``x`` and ``T``
        are broadcast.
        """
        r, alpha, a, b = p
        rate = random.standard_gamma(r + x) / (alpha + T)
        leaving = np.clip(random.beta(a, b + self._coins(x)), 1e-12, 1 - 1e-12)
        stay = np.minimum(random.geometric(leaving), 2**40)
        return np.asarray(np.minimum(random.poisson(np.minimum(rate * t, 1e9)), stay))


#: Number of quadrature nodes over p, by how steeply the integrand falls: from, below.
_NODES = ((48, 0.0, 1.0), (160, 1.0, 8.0), (480, 8.0, np.inf))


def _beta_rule(a: float, b: Array, count: int) -> tuple[Array, Array]:
    """Return ``_nodes``, cached for the next horizon."""
    return _nodes(float(a), tuple(map(float, b)), count)


@lru_cache(maxsize=64)
def _nodes(a: float, bs: tuple[float, ...], count: int) -> tuple[Array, Array]:
    """Return nodes in (0, 1) and weights of Gauss quadrature under beta(a, b), a row for each b,
    (len(b), count).

    By Golub and Welsch from the recurrence of the Jacobi polynomials.
    """
    b = np.array(bs)
    one, two = (b - 1)[:, None], a - 1
    k = np.arange(1, count)[None, :]
    both = one + two
    middle = np.empty((len(b), count))
    middle[:, 0] = ((two - one) / (both + 2))[:, 0]
    middle[:, 1:] = (two - one) * both / ((2 * k + both) * (2 * k + both + 2))
    off_diagonal = (
        4
        * k
        * (k + one)
        * (k + two)
        * (k + both)
        / ((2 * k + both) ** 2 * (2 * k + both + 1) * np.where(k == 1, 1, 2 * k + both - 1))
    )
    off_diagonal[:, :1] = 4 * (1 + one) * (1 + two) / ((2 + both) ** 2 * (3 + both))
    off_diagonal = np.sqrt(off_diagonal)
    nodes, weights = np.empty((len(b), count)), np.empty((len(b), count))
    for i in range(len(b)):
        nodes[i], vectors = eigh_tridiagonal(middle[i], off_diagonal[i])
        weights[i] = vectors[0] ** 2
    return np.clip((1 + nodes) / 2, 1e-300, 1.0), weights
