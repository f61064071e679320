"""Maximum likelihood with positive parameters on the log scale, several starts, and standard
errors.
"""

from collections.abc import Callable, Mapping, Sequence, Set
from dataclasses import dataclass, field, replace
from functools import cache

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import eigh
from scipy.optimize import minimize
from scipy.special import digamma, gammaln
from threadpoolctl import ThreadpoolController

Array = NDArray[np.float64]
#: A function of the log parameters that returns the log-likelihood and its gradient.
Objective = Callable[[Array], tuple[float, Array]]

#: Bounds of the parameters: e⁻⁹ to e¹² (times in units of the average observation, amounts of the
#: average order).
LOW, HIGH = -9.0, 12.0
#: Standard deviation of the weak prior on each log parameter for small data: a factor of 20 either
#: way is still likely.
WEAK = 3.0
#: With fewer customers than this the weak prior is used.
SMALL = 300
#: A parameter known only to a factor e either way is weakly identified.
VAGUE = 1.0


@dataclass(frozen=True)
class Fit:
    """A fitted model: ``parameters`` and ``errors`` (standard errors, None if the likelihood has no
    curvature) by name.

    ``covariance`` is that of the log parameters, 0 for those at a bound; ``notes`` are warnings for
    the reader. Times are in days, amounts in major units.
    """

    model: str
    parameters: Mapping[str, float]
    errors: Mapping[str, float | None]
    log_likelihood: float
    customers: int
    converged: bool
    at_bound: tuple[str, ...]
    penalised: bool
    vague: tuple[str, ...]
    """Parameters inside their bounds that the data hardly determine."""
    notes: tuple[str, ...]
    covariance: Array = field(repr=False)

    @property
    def values(self) -> Array:
        """Return the parameters in their order."""
        return np.array(list(self.parameters.values()))

    def with_notes(self, notes: Sequence[str], explained: Set[str] = frozenset()) -> "Fit":
        """Add notes, and a note on the vague parameters other than the ``explained`` ones."""
        names = [name for name in self.vague if name not in explained]
        told = (
            f"The data hardly determine {', '.join(names)} of the {self.model} model: other "
            "values would fit as well.",
        )
        return replace(self, notes=(*self.notes, *(told if names else ()), *notes))

    def draws(self, count: int, random: np.random.Generator) -> Array:
        """Draw parameters from their uncertainty: ndarray (count, parameters), each within a factor
        e³ of the estimate.
        """
        spread, axes = np.linalg.eigh(self.covariance)
        steps = random.standard_normal((count, len(spread))) * np.sqrt(np.clip(spread, 0, None))
        return np.asarray(self.values * np.exp(np.clip(steps @ axes.T, -3, 3)))


def fit(
    model: str,
    names: Sequence[str],
    objective: Objective,
    starts: Sequence[Array],
    scales: Array,
    *,
    customers: int,
    constant: float = 0.0,
    glance: Objective | None = None,
) -> Fit:
    """Maximise ``objective``, a sum over ``customers``, from each of ``starts`` (log parameters)
    and keep the best.

    ``scales`` converts parameters to days or major units, and ``constant`` is what that adds to the
    log-likelihood. ``glance`` is the objective on a sample of customers, used for the first steps
    with its own curvature.
    """
    with _libraries().limit(limits=1, user_api="blas"):
        return _fitted(model, names, objective, starts, scales, customers, constant, glance)


@cache
def _libraries() -> ThreadpoolController:
    """Linear algebra backend; with four parameters, one thread is faster than many."""
    return ThreadpoolController()


def _fitted(
    model: str, names: Sequence[str], objective: Objective, starts: Sequence[Array], scales: Array,
    customers: int,
    constant: float, glance: Objective | None,
) -> Fit:  # fmt: skip
    penalised = customers < SMALL
    weight = 1 / WEAK**2 if penalised else 0.0

    def whole(theta: Array, of: Objective = objective) -> tuple[float, Array]:
        value, slope = of(theta)
        scale = max(customers, 1)
        return (-value + weight * float(theta @ theta) / 2) / scale, (
            -slope + weight * theta
        ) / scale

    def first_look(theta: Array) -> tuple[float, Array]:
        return whole(theta, glance or objective)

    begun = sorted(
        (_descend(first_look, start, _FIRST_STEPS) for start in starts), key=lambda found: found[1]
    )
    ends = sorted((_descend(first_look, at) for at, _ in begun[:2]), key=lambda found: found[1])
    best, value, left, hessian = _top(
        whole, ends[0][0], _hessian(first_look, ends[0][0]), customers
    )
    for at, _ in (
        ends[1:] if left >= CONVERGED else []
    ):  # a flat likelihood can end two descents at different places
        best, value, left, hessian = min(
            (best, value, left, hessian),
            _top(whole, at, _hessian(first_look, at), customers),
            key=lambda top: top[1],
        )
    has_converged = left < CONVERGED
    free = _inside(best)
    covariance, known = _covariance(hessian * max(customers, 1), free)
    parameters = np.exp(best) * scales
    deviations = np.sqrt(np.diag(covariance))
    at_bound = tuple(n for n, ok in zip(names, free, strict=True) if not ok)
    errors = {
        n: float(p * d) if ok else None
        for n, p, d, ok in zip(names, parameters, deviations, known, strict=True)
    }
    notes = []
    if not has_converged:
        notes.append(f"The {model} fit stopped before its maximum; its parameters are approximate.")
    vague = [n for n, d, ok in zip(names, deviations, known, strict=True) if ok and d > VAGUE]
    vague += [n for n, ok, inside in zip(names, known, free, strict=True) if inside and not ok]
    if penalised:
        notes.append(
            f"Only {customers:,} customer{'' if customers == 1 else 's'}: a weak prior keeps "
            f"the {model} fit within a factor of 20 around the average."
        )
    return Fit(
        model, dict(zip(names, map(float, parameters), strict=True)), errors,
        -value * max(customers, 1) + weight * float(best @ best) / 2 + constant, customers, has_converged,
        at_bound, penalised, tuple(vague), tuple(notes), covariance,
    )  # fmt: skip


#: Number of steps from each start, after which the best two continue.
_FIRST_STEPS = 12


def _descend(of: Objective, start: Array, steps: int = 300) -> tuple[Array, float]:
    optimum = minimize(
        of, np.clip(start, LOW, HIGH), jac=True, method="L-BFGS-B",
        bounds=[(LOW, HIGH)] * len(start),
        options={"maxiter": steps, "ftol": 1e-10, "gtol": 1e-8},
        # `_polished` continues from the best
    )  # fmt: skip
    return np.asarray(optimum.x), float(optimum.fun)


#: A fit has converged if less than this remains to be gained in the log-likelihood of all
#: customers. Steps that would gain less than this share of the likelihood are not made: rounding
#: errors are as large.
CONVERGED, _NOTHING = 0.01, 1e-13
_MOST_STEPS = 60


def _top(
    of: Objective, at: Array, hessian: Array, customers: int
) -> tuple[Array, float, float, Array]:
    """Climb from a point; return where it ends, the value there, the remaining gain in all
    customers' log-likelihood, and the curvature.
    """
    best, value, left = _climbed(of, at, hessian, customers)
    if left >= CONVERGED:
        best, _ = _descend(of, best)
        hessian = _hessian(of, best)
        best, value, left = _climbed(of, best, hessian, customers)
    return best, value, left, hessian


def _climbed(
    of: Objective, at: Array, hessian: Array, customers: int
) -> tuple[Array, float, float]:
    """Take Newton's steps within the bounds until nothing is left to gain; return where they end,
    the value there, and the gain of one more step in all customers' log-likelihood.

    The curvature is updated by every step (BFGS), so one of similar customers is enough to begin.
    """
    value, slope = of(at)
    for _ in range(_MOST_STEPS):
        step, gain = _newton(at, slope, hessian)
        if gain < _NOTHING * max(abs(value), 1):
            break
        there = at + step
        ahead, slope_there = of(there)
        for _ in range(_HALVINGS):
            if ahead < value - gain / 1000:
                break
            there = (at + there) / 2
            ahead, slope_there = of(there)
        else:
            break  # rounding errors hide what is left
        hessian = _updated(hessian, there - at, slope_there - slope)
        at, value, slope = there, ahead, slope_there
    return at, value, _newton(at, slope, hessian)[1] * max(customers, 1)


#: A step is halved at most this many times.
_HALVINGS = 6


def _newton(at: Array, slope: Array, hessian: Array) -> tuple[Array, float]:
    """Return Newton's step to the minimum within the bounds, and what it gains.

    The first parameter to cross its bound stops there, and the step of the others is computed
    again. In a flat direction parameters change by a factor e at most.
    """
    step = np.zeros_like(at)
    free = _inside(at) | ((at < 0) & (slope < 0)) | ((at > 0) & (slope > 0))
    while free.any():
        pull = (slope + hessian @ np.where(free, 0, step))[free]
        bend, axes = np.linalg.eigh(hessian[np.ix_(free, free)])
        along = axes.T @ pull
        step[free] = -axes @ (along / np.maximum(bend, np.maximum(np.abs(along), 1e-300)))
        held = np.clip(at + step, LOW, HIGH) - at
        if (held == step).all():
            break
        first = int(np.argmin(np.where(held == step, np.inf, held / np.where(step, step, 1.0))))
        step[first], free[first] = held[first], False
    return step, max(-float(slope @ step + step @ hessian @ step / 2), 0.0)


def _updated(hessian: Array, step: Array, change: Array) -> Array:
    """Return the curvature after a step that changed the gradient (BFGS); as before where the
    change has the wrong sign.
    """
    along, before = float(step @ change), hessian @ step
    if along <= 0 or step @ before <= 0:
        return hessian
    return np.asarray(
        hessian + np.outer(change, change) / along - np.outer(before, before) / (step @ before)
    )


def _inside(at: Array) -> NDArray[np.bool_]:
    return np.asarray((at > LOW + 1e-6) & (at < HIGH - 1e-6))


def _hessian(of: Objective, at: Array) -> Array:
    """Return central differences of the gradient."""
    step = 1e-4
    rows = []
    for i in range(len(at)):
        aside = np.zeros_like(at)
        aside[i] = step
        rows.append((of(at + aside)[1] - of(at - aside)[1]) / (2 * step))
    hessian = np.array(rows)
    return np.asarray((hessian + hessian.T) / 2)


def _covariance(hessian: Array, free: NDArray[np.bool_]) -> tuple[Array, NDArray[np.bool_]]:
    """Return the inverse of the curvature among the free parameters, and a mask of those that it
    determines.
    """
    covariance = np.zeros_like(hessian)
    known = free.copy()
    if free.any():
        inside = np.ix_(free, free)
        bend, axes = eigh(hessian[inside])
        flat = bend < 1e-6 * max(float(bend.max()), 1e-12)
        inverse = np.where(flat, 0.0, 1 / np.where(flat, 1.0, bend))
        covariance[inside] = (axes * inverse) @ axes.T
        known[free] = ~(np.abs(axes[:, flat]) > 0.1).any(axis=1)
    return covariance, known


def softmax(logs: Array) -> tuple[Array, Array]:
    """Return, for rows of logarithms, the logarithm of each row's sum, and the shares in it."""
    top = logs.max(axis=-1, keepdims=True)
    shares = np.exp(logs - top)
    sums = shares.sum(axis=-1, keepdims=True)
    return np.asarray((top + np.log(sums))[..., 0]), np.asarray(shares / sums)


def distinct(counts: Array) -> tuple[Array, NDArray[np.int64]]:
    """Return a rising list of counts that includes every count in the rows, and each row's position
    in it. The list is 0, 1, 2, … unless the largest count is very large.
    """
    largest = int(counts.max(initial=0))
    if largest > 2 * len(counts) + 1000:
        seen, back = np.unique(counts, return_inverse=True)
        return seen, back
    return np.arange(largest + 1.0), counts.astype(np.int64)


def rising(start: float, counts: Array) -> tuple[Array, Array]:
    """Return ln Γ(start + n) − ln Γ(start) of each of the rising whole ``counts`` n, and its
    derivative.

    They are sums over 0, 1, … n − 1, since both terms cancel where ``start`` is large; only a list
    with gaps takes the difference.
    """
    largest = int(counts[-1])
    if largest > len(counts):
        return gammaln(start + counts) - gammaln(start), digamma(start + counts) - digamma(start)
    steps, at = start + np.arange(largest), counts.astype(np.int64)
    logs, inverse = (np.concatenate([[0.0], np.cumsum(v)]) for v in (np.log(steps), 1 / steps))
    return logs[at], inverse[at]
