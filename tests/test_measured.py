"""Values with uncertainty and unit: to the digits that they deserve, and read as people type them."""

from __future__ import annotations

import itertools
import math

import msgspec
import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from common_bench.desk.graphs.ranges import gap_words, gaps_in, told_gaps
from common_bench.model.measured import Measured, digits, places, plain, read_measured, written
from common_bench.model.plan import ClassGraph, Plan
from common_bench.model.trouble import UnitTrouble
from common_bench.model.units import conversion, power, product, same_kind, unit
from common_bench.record.traces import MovingPicture, Trace


@pytest.mark.parametrize(
    ("value", "u", "unit_text", "shown"),
    [
        (1.9034, 0.0061, "s", "1.903 ± 0.006 s"),
        (9.7878, 0.0522, "m/s²", "9.79 ± 0.05 m/s²"),
        (2.0163, 0.0142, "s²", "2.016 ± 0.014 s²"),
        (3.6299, 0.0098, "s²", "3.630 ± 0.010 s²"),
        (208771.4, 30.2, "", "208\u202f770 ± 30"),
        (-0.0042, 0.0011, "N", "−0.0042 ± 0.0011 N"),
        (float("nan"), 0.1, "N", "—"),
        (0.981, 0.0, "N", "0.9810 N"),
        (0.0, 0.0, "N", "0 N"),
    ],
)  # fmt: skip
def test_a_value_is_written_to_the_digits_that_it_deserves(value: float, u: float, unit_text: str, shown: str) -> None:
    assert written(value, u, unit_text) == shown


@given(st.floats(1e-9, 1e9), st.floats(-1e9, 1e9))
def test_what_is_written_differs_from_the_value_by_less_than_its_uncertainty(u: float, value: float) -> None:
    assert -9 <= places(u) <= 12
    shown = digits(value, u, most=12).replace("\u202f", "").replace("−", "-")
    assert abs(float(shown) - value) <= 0.5 * 10.0 ** -places(u) * 1.0001 + math.ulp(value) + 1e-12
    assert 10.0 ** -places(u) <= u * 1.06


@given(st.floats(-1e6, 1e6), st.floats(0, 1e3))
def test_what_is_written_can_be_read_again(value: float, u: float) -> None:
    text = f"{value!r} ± {u!r} m"
    again = read_measured(text, "m")
    assert math.isclose(again.value, value, rel_tol=1e-12, abs_tol=1e-12)
    assert math.isclose(again.u, u, rel_tol=1e-12, abs_tol=1e-12)
    assert read_measured(text.replace(".", ",").replace("-", "−").replace("e−", "e-"), "m") == again


NUMBERS = st.decimals(-9999, 9999, places=3, allow_nan=False).map(str)
SPREADS = st.decimals(0, 99, places=3, allow_nan=False).map(str)
UNITS = st.sampled_from(["", "m", "m/s²", "m/s^2", "N·m", "kg*m/s^2", "°C", "%", "1/s", "µV"])
SIGNS = st.sampled_from([" ± ", "±", "+-", " +- ", " +/- "])


@given(NUMBERS, SPREADS, UNITS, SIGNS, st.booleans(), st.booleans())
def test_every_way_to_type_a_value_with_unit_and_uncertainty_is_one_value(
    value: str, u: str, unit_text: str, sign: str, comma: bool, true_minus: bool
) -> None:
    gap = " " if unit_text else ""
    ways = [f"{value}{sign}{u}{gap}{unit_text}", f"({value}{sign}{u}){gap}{unit_text}"]
    if unit_text and unit_text != "°C":
        ways += [f"{value}{gap}{unit_text}{sign}{u}{gap}{unit_text}", f"{value}{gap}{unit_text}{sign}{u}"]
    for way in ways:
        typed = way.replace(".", ",") if comma else way
        typed = typed.replace("-", "−", 1) if true_minus and value.startswith("-") else typed
        for expected in (None, unit_text):
            found = read_measured(typed, expected)
            assert (found.value, found.u) == pytest.approx((float(value), float(u))), typed
            assert found.unit == unit_text


@pytest.mark.parametrize(
    ("text", "value", "u", "unit_text"),
    [
        ("-2", -2, 0, ""), ("−2 ± 0,1", -2, 0.1, ""), (".5 V", 0.5, 0, "V"), ("400 N ± 2 %", 400, 8, "N"), ("50 ± 2 %", 50, 2, "%"),
        ("9.81 m/s² ± 1 cm/s²", 9.81, 0.01, "m/s²"), ("(1.60 ± 0.04) × 10⁻¹⁹ C", 1.6e-19, 4e-21, "C"), ("20 °C ± 0.5 K", 20, 0.5, "°C"),
        ("5*10^3 m", 5000, 0, "m"), ("2e-3 V", 2e-3, 0, "V"),
    ],
)  # fmt: skip
def test_a_value_keeps_the_unit_that_was_typed(text: str, value: float, u: float, unit_text: str) -> None:
    found = read_measured(text)
    assert (found.value, found.u) == pytest.approx((value, u))
    assert found.unit == unit_text
    assert msgspec.structs.replace(Plan("p"), graph=ClassGraph("y", accepted=text)).accepted() == found


@pytest.mark.parametrize("text", ["5 - 2", "1 2", "1 N 2 N", "5 m ± 3 kg", "± 2", "--2", "1 ± 2 ± 3"])
def test_what_is_typed_wrongly_is_refused_with_or_without_a_unit_in_mind(text: str) -> None:
    for expected in (None, "m"):
        with pytest.raises(UnitTrouble):
            read_measured(text, expected)


@pytest.mark.parametrize(
    "text", ["", "long", "1.2.3 m", "0.5 ± -0.1 m", "0.5 s", "1e999 m", "0.5 furlongss", "0.5 ± m"]
)
def test_what_is_no_value_of_that_kind_is_refused_in_words(text: str) -> None:
    with pytest.raises(UnitTrouble) as refused:
        read_measured(text, "m")
    assert refused.value.sentence.endswith(".") or refused.value.sentence.endswith("?")


def test_units_change_factor_and_zero() -> None:
    assert conversion("cm", "m") == (0.01, 0.0)
    factor, offset = conversion("°C", "K")
    assert (factor, offset) == (1.0, 273.15)
    factor, offset = conversion("°C", "°F")
    assert (factor * 20 + offset) == pytest.approx(68.0)
    assert Measured(52.0, 0.2, "cm").to("m") == Measured(0.52, 0.002, "m")
    assert same_kind("N", "kg·m/s²")
    assert not same_kind("N", "J")
    assert unit("m/s²") == unit("m/s^2")
    assert product("N", "m", -1) == "N/m"
    assert power("m/s", 2) == "m²/s²"


@pytest.mark.parametrize(("wrong", "meant"), [("mss", "ms"), ("kgg", "kg"), ("newtonz", "")])
def test_an_unknown_unit_is_refused_with_the_likely_one(wrong: str, meant: str) -> None:
    with pytest.raises(UnitTrouble) as refused:
        unit(wrong)
    assert wrong in refused.value.what
    assert meant in refused.value.do


def test_whole_numbers_are_parted_from_five_digits_on() -> None:
    assert plain(8412, 0) == "8412"
    assert plain(-1234567.25, 1) == "−1\u202f234\u202f567.2"


@given(st.floats(1.0, 8.0), st.floats(0.5, 9.0), st.floats(0.0, 12.0), st.sampled_from([2.0, 20.0, 60.0]))
def test_a_gap_is_seen_as_far_as_it_reaches_into_what_is_shown(
    begin: float, long: float, later: float, rate: float
) -> None:
    trace, moving, seconds, per_second = Trace(), MovingPicture(30.0), 10.0, 30.0
    before, after = np.arange(0.0, begin, 1 / rate), begin + long + np.arange(0.0, 1 / rate + later, 1 / rate)
    begins, ends = float(before[-1]), float(after[0])
    assume(ends - begins > 3 / rate)
    trace.add(before, np.sin(before))
    moving.of(trace, begins - seconds)
    trace.add(after, np.sin(after), np.arange(len(after)) == 0)
    now = float(after[-1])
    left = now - seconds
    assume(
        min(abs(ends - left), abs(begins - left)) > 2 / per_second + 1 / rate
    )  # beside the edge it is gone, or nearly
    picture = moving.of(trace, left)
    found = gaps_in(picture.t - now, np.isfinite(picture.values), -seconds)
    if ends < left:
        assert found == []
        return
    ((low, high),) = found
    assert low == pytest.approx(max(begins, left) - now, abs=2 / per_second)
    assert high == pytest.approx(ends - now, abs=2 / per_second)
    assert gap_words((low, high), -seconds) == ("gap" if begins < left else f"gap {high - low:.1f} s")


@given(st.lists(st.tuples(st.floats(0, 100), st.floats(0.01, 5)), max_size=60), st.floats(0.1, 30))
def test_of_many_gaps_the_longest_are_told_and_none_over_another(
    found: list[tuple[float, float]], apart: float
) -> None:
    gaps = [(begin, begin + long) for begin, long in found]
    told = told_gaps(gaps, apart)
    middles = sorted(sum(gaps[at]) / 2 for at in told)
    assert all(later - one >= apart for one, later in itertools.pairwise(middles))
    assert bool(told) == bool(gaps)
    assert len(told) <= 6
    if told:
        longest = max(end - begin for begin, end in gaps)
        assert gaps[told[0]][1] - gaps[told[0]][0] == longest
    left = [at for at in range(len(gaps)) if at not in told and len(told) < 6]
    assert all(any(abs(sum(gaps[at]) / 2 - middle) < apart for middle in middles) for at in left), "others have no room"
