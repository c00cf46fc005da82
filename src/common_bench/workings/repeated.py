"""How well a mean is known from what it is the mean of. Values out of one run in; standard uncertainty with its degrees of
freedom out.

Readings resemble their neighbours, as behind a sensor that smooths; neighbouring gaps share an event, whose error cancels
between them. Neither may be counted as independent.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from common_bench.model.block import Floats

MOST_ORDER = 30  # of the process by which the likeness of readings is described
LEAST_CHAINED = 4  # gaps, from which anything is said of what scatters
SHARES = np.concatenate(
    [[0.0], np.geomspace(0.015, 0.999, 24), [1.0]]
)  # of the pace in what scatters, that are weighed
PACE_ALONE = 0.7  # weight of the last of them before anything is known: what is believed in doubt is the wider one
FEW = 2.0  # gaps more, by whose share the variance grows, since the shares are told from few
CHANGES = 0.01  # chance below which a pace is told to change
MOST_GAPS = 20_000  # that are weighed; of more, the ends of the first and the last tell the mean well enough


class Mean(NamedTuple):
    """value, its standard uncertainty u from the scatter alone with `dof` degrees of freedom; independent: how many
    independent values these are worth."""

    value: float
    u: float
    dof: float
    independent: float


def mean_of_readings(values: Floats) -> Mean:
    """The mean of (n,) values that follow on one another, n >= 2, as it scatters.

    An autoregressive process is fitted to them (Levinson, Durbin), its order by Akaike's criterion; its spectral density
    at frequency zero over n is the variance of the mean (Heidelberger, Welch, Commun. ACM 24, 233 (1981)). The sum of its
    coefficients, which short series tell too small, is corrected (Kendall, Biometrika 41, 403 (1954)).
    """
    n, mean = len(values), float(np.mean(values))
    off = values - mean
    variance = float(off @ off) / n
    if variance <= 0.0:
        return Mean(mean, 0.0, float(n - 1), float(n))
    coefficients, rest = _described(off, variance)
    order, alike = len(coefficients), _put_right(float(coefficients.sum()), n)
    of_mean = rest * n / max(1, n - 1 - order) / (1 - alike) ** 2 / n
    independent = variance * n / (n - 1) / of_mean
    dof = n - 1.0 if order == 0 else max(1.0, min(independent, n) - 2.0)
    return Mean(mean, float(np.sqrt(of_mean)), dof, max(1.0, min(independent, n)))


def _put_right(alike: float, n: int) -> float:
    """The sum of the coefficients, which n values tell too small."""
    return min(alike + (1 + 4 * alike) / n, 1 - 1.5 / n**0.75) if alike > 0 else alike


def spread_of_sums(values: Floats, weights: Floats) -> Floats:
    """(p,) standard deviations of the sums of (n,) values that follow on one another, each by its (p, n) weights, as they scatter
    about their mean and resemble their neighbours: the spectral density of the autoregressive process that describes them, by what
    the weights let through at each frequency (Priestley, Spectral Analysis and Time Series (1981), 4.12)."""
    n = len(values)
    off = values - float(np.mean(values))
    variance = float(off @ off) / n
    if variance <= 0.0:
        return np.zeros(len(weights))
    coefficients, rest = _described(off, variance)
    alike = float(coefficients.sum())
    if alike > 0:
        coefficients = coefficients * (_put_right(alike, n) / alike)
    rest *= n / max(1, n - 1 - len(coefficients))
    size = 1 << (2 * n - 1).bit_length()  # nothing comes round from the end to the beginning
    through = np.abs(np.fft.rfft(weights, size)) ** 2
    density = rest / np.abs(np.fft.rfft(np.concatenate([[1.0], -coefficients]), size)) ** 2
    often = np.full(size // 2 + 1, 2.0)
    often[[0, -1]] = 1.0
    return np.asarray(np.sqrt((through * density * often).sum(axis=1) / size))


def _described(off: Floats, variance: float) -> tuple[Floats, float]:
    """Coefficients, and variance of what is new in each value."""
    n = len(off)
    most = min(n // 4, int(10 * np.log10(n)), MOST_ORDER)
    together = [variance, *(float(off[by:] @ off[:-by]) / n for by in range(1, most + 1))]
    found: tuple[Floats, float] = np.empty(0), variance
    best = n * np.log(variance)
    coefficients, rest = np.empty(0), variance
    for order in range(1, most + 1):
        before = np.array(together[order - 1 : 0 : -1])
        reflected = (together[order] - float(coefficients @ before)) / rest
        coefficients = np.append(coefficients - reflected * coefficients[::-1], reflected)
        rest *= 1 - reflected**2
        if rest <= 1e-12 * variance:
            break
        information = n * np.log(rest) + 2 * order
        if information < best:
            found, best = (coefficients, rest), information
    return found


class PaceOfGaps(NamedTuple):
    """What gaps tell of the pace: their mean; change: chance that a steady pace would seem to change by so much."""

    mean: Mean
    change: float

    @property
    def changes(self) -> bool:
        return self.change < CHANGES


def mean_of_gaps(chains: list[Floats]) -> PaceOfGaps:
    """The mean of gaps that follow on one another in each chain, where each ends with the event with which the next begins.

    A gap is the pace, its own scatter and the errors of two events, of which the next gap has one with the other sign
    (JCGM 100, 5.2.2): neighbours have a covariance of −σ², σ² the variance of an event's error. With a steady pace the
    best mean is then the slope of event time against event number; with a pace that scatters, the plain mean. How much of
    each there is, is told by the gaps themselves: the means for all shares of the pace in what scatters are weighted by
    their likelihoods (restricted; Harville, J. Am. Stat. Assoc. 72, 320 (1977)).
    """
    count = sum(map(len, chains))
    if count < LEAST_CHAINED:
        gaps = np.concatenate(chains)
        u = float(np.std(gaps, ddof=1)) / count**0.5 if count > 1 else np.nan
        return PaceOfGaps(Mean(float(gaps.mean()), u, count - 1.0, float(count)), 1.0)
    if count > MOST_GAPS:
        chains = _thinned(chains, -(-count // MOST_GAPS))
    weighed = [_weighed(chains, share) for share in SHARES]
    logs = np.array([each.likelihood for each in weighed])
    before = np.full(len(SHARES), (1 - PACE_ALONE) / (len(SHARES) - 1))
    before[-1] = PACE_ALONE
    weight = before * np.exp(logs - logs.max())
    weight /= weight.sum()
    means, squares = (np.array([getattr(each, name) for each in weighed]) for name in ("mean", "variance"))
    mean = float(weight @ means)
    variance = float(weight @ (squares + (means - mean) ** 2)) * (1.0 + FEW / count)
    change = float(weight @ np.array([each.change for each in weighed]))
    gaps = np.concatenate(chains)
    spread = float(np.var(gaps, ddof=1))
    return PaceOfGaps(
        Mean(mean, variance**0.5, count - 1.0, spread / variance if variance > 0 else float(count)), change
    )


class _Weighed(NamedTuple):
    mean: float
    variance: float
    likelihood: float
    change: float


def _weighed(chains: list[Floats], share: float) -> _Weighed:
    """Mean by generalised least squares where the pace has this share in what scatters: per chain the covariance has
    2 (1 − share) + share on its diagonal and −(1 − share) beside it."""
    from scipy.linalg import cho_solve_banded, cholesky_banded
    from scipy.special import stdtr

    event, pace = 1.0 - share, share
    count = sum(map(len, chains))
    middle = (count - 1) / 2.0
    normal, right, square, log_size, first = np.zeros((2, 2)), np.zeros(2), 0.0, 0.0, 0
    for gaps in chains:
        n = len(gaps)
        banded = np.vstack([np.full(n, -event), np.full(n, 2 * event + pace)])
        banded[0, 0] = 0.0
        design = np.vstack([np.ones(n), (np.arange(first, first + n) - middle) / count])
        factor = cholesky_banded(banded)
        solved = cho_solve_banded((factor, False), np.vstack([design, gaps]).T)
        normal += design @ solved[:, :2]
        right += design @ solved[:, 2]
        square += float(gaps @ solved[:, 2])
        log_size += 2 * float(np.log(factor[1]).sum())
        first += n
    mean = float(right[0] / normal[0, 0])
    dof = count - 1
    left = max(square - mean * float(right[0]), np.finfo(float).tiny)
    likelihood = -0.5 * (log_size + np.log(normal[0, 0]) + dof * np.log(left))
    variance = left / dof / float(normal[0, 0])
    both = np.linalg.solve(normal, right)
    rest = max(square - float(both @ right), np.finfo(float).tiny) / max(1, count - 2)
    ratio = abs(float(both[1])) / float(np.sqrt(rest * np.linalg.inv(normal)[1, 1]))
    return _Weighed(mean, float(variance), float(likelihood), 2 * float(stdtr(max(1, count - 2), -ratio)))


def _thinned(chains: list[Floats], by: int) -> list[Floats]:
    """Means of so many neighbouring gaps, which are gaps again."""
    cut = [each[: len(each) - len(each) % by].reshape(-1, by).mean(axis=1) for each in chains if len(each) >= by]
    return cut or [np.concatenate(chains)]
