"""Text from outside that would hang or break the program: units, workings, plans, points."""

from __future__ import annotations

import contextlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.model.plan_file import plan_from_text
from common_bench.model.trouble import PlanTrouble, UnitTrouble
from common_bench.model.units import conversion, is_unit, same_kind, unit
from common_bench.workings.evaluate import check

PIECES = ("m", "s", "kg", "°C", "%", "Ym", "counts", "^", "**", "9", "0.5", "-2", "(", ")", "/", "·", "²", "⁻", "⋅", "1e9", "µ", "1/3", "99999")  # fmt: skip
UNITS = st.lists(st.sampled_from(PIECES), min_size=1, max_size=9).map("".join)
POWERS = st.sampled_from(["^2", "^(1/3)", "^-3", "^0.5", "^9", "^9^9", "^1e9", "^(-1/7)", " * 3 s", " / 7 mm", " * a"])

pytestmark = pytest.mark.timeout(120)  # what hangs, fails


@given(UNITS)
def test_no_unit_text_hangs_or_breaks(text: str) -> None:
    with contextlib.suppress(UnitTrouble):
        conversion(text, "m")
    assert is_unit(text) in (True, False)


@given(UNITS, st.lists(POWERS, max_size=5))
def test_the_checker_never_raises_and_every_unit_that_it_gives_can_be_read(text: str, steps: list[str]) -> None:
    lines = [f"a = 3 {text}", "b = sqrt(2 m)", "c = b * 3 s"]
    lines += [f"d{at} = ({'d' + str(at - 1) if at else 'b'}){step}" for at, step in enumerate(steps)]
    lines += [f"z = a + b as {text}"]
    for line in check(lines, {}).lines:
        if line.kind is not None:
            assert same_kind(line.kind.unit, line.kind.unit)
        else:
            assert line.trouble is not None
            assert line.trouble.sentence


def test_roots_and_powers_come_back_to_where_they_began() -> None:
    lines = ["a = 2 m", *(f"b{n} = (a^(1/{n}))^{n}" for n in range(2, 13)), *(f"c{n} = a + b{n}" for n in range(2, 13))]
    assert [line.trouble for line in check(lines, {}).lines] == [None] * len(lines)


@pytest.mark.parametrize("text", ["m^9^9^9", "m**9**9**9", "m^999", "m" + "^9" * 40, "(" * 90, "m*" * 200, "9" * 4000 + "m"])  # fmt: skip
def test_a_unit_that_would_take_for_ever_is_refused_with_a_sentence(text: str) -> None:
    with pytest.raises(UnitTrouble) as refused:
        unit(text)
    assert refused.value.sentence
    assert check([f"x = 3 {text}"], {}).lines[0].trouble is not None


@pytest.mark.parametrize(
    "text",
    [
        "name = " + "[" * 100_000,
        ".".join("a" * 60_000) + " = 1",
        "\n".join(f"{'[' * 2}t{'.x' * 4000}]]" for _ in range(30)),
        "runs_per_group = " + "9" * 6000,
        "name = 'x'\n" + "{a=" * 5000,
        "[[measured]]\nchannel = 'load'\nquantity = 'f'\nunit = 'N^9^9^9'\ncurve='line'\n",
    ],
)
def test_a_plan_text_that_goes_too_deep_is_refused_with_a_sentence(text: str) -> None:
    with pytest.raises(PlanTrouble) as refused:
        plan_from_text(text, "evil.benchplan")
    assert refused.value.sentence


def test_a_factor_beyond_all_numbers_is_refused_while_it_is_typed() -> None:
    lines = check(["a = 2 Ym^24 as ym^24", "b = 1e999 m", "c = 2 m^20", "d = c * c"], {}).lines
    assert [line.trouble.code for line in lines if line.trouble] == ["conversion-too-large", "number-too-large", "unit-too-high"]  # fmt: skip
