"""A logged trace is found in one that another kit recorded, and it is said how sure that is."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from common_bench.exchange.matching import matched


def bumps(t: np.ndarray, seed: int) -> np.ndarray:
    """Something that happens a few times, never in the same way."""
    dice = np.random.default_rng(seed)
    return sum(
        dice.uniform(0.5, 2) * np.exp(-(((t - at) / dice.uniform(0.3, 1.5)) ** 2)) for at in dice.uniform(0, 60, 9)
    )


@given(
    seed=st.integers(0, 10**6),
    begin=st.floats(2.0, 35.0),
    every=st.sampled_from([0.02, 0.05, 0.13]),
    scale=st.sampled_from([-3.0, 0.01, 1.0, 400.0]),
)
def test_what_both_have_seen_tells_where_one_lies_in_the_other(
    seed: int, begin: float, every: float, scale: float
) -> None:
    dice = np.random.default_rng(seed)
    t = np.arange(0, 60, 0.05)
    own_t = np.arange(0, 22, every)
    whole = bumps(t, seed) + dice.normal(0, 0.02, len(t))
    part = scale * (bumps(own_t + begin, seed) + dice.normal(0, 0.02, len(own_t))) + 7.0 + 0.01 * scale * own_t
    assume(np.ptp(bumps(own_t + begin, seed)) >= 0.6)  # something has happened in it
    found = matched(own_t, part, t, whole)
    assert found is not None
    right = abs(found.shift - begin) <= 0.2 and (found.likeness < 0) == (scale < 0)
    assert right or not found.words.startswith("sure"), found


def test_it_is_sure_where_it_may_be_and_says_so_where_it_may_not() -> None:
    t = np.arange(0, 60, 0.05)
    own_t = np.arange(0, 30, 0.1)
    found = matched(own_t, bumps(own_t + 12.34, 3), t, bumps(t, 3))
    assert found.words.startswith("sure")
    assert found.shift == pytest.approx(12.34, abs=0.03)
    swing = matched(own_t, np.sin(own_t), t, np.sin(t))
    assert swing.words.startswith("not sure"), "a swing fits again and again"
    noise = np.random.default_rng(1)
    assert matched(own_t, noise.normal(size=len(own_t)), t, noise.normal(size=len(t))).words.startswith("not sure")
    assert matched(own_t, np.full(len(own_t), 3.0), t, bumps(t, 3)) is None, "nothing happens in it"
    assert matched(own_t[:5], own_t[:5], t, bumps(t, 3)) is None
    holes = bumps(own_t + 12.34, 3)
    holes[60:110] = np.nan
    assert matched(own_t, holes, t, bumps(t, 3)).shift == pytest.approx(12.34, abs=0.1), "a gap is nothing, not zero"
    early = matched(np.arange(0, 40, 0.1), bumps(np.arange(0, 40, 0.1), 3), t[200:] - 10.0, bumps(t[200:], 3))
    assert early.shift == pytest.approx(-10.0, abs=0.1), "it may begin before the other"
