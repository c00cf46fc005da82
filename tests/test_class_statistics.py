"""The class line against simulated classes with a known truth: intervals, efficiency, false alarms, causes; and from a table
by the command line."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from chance import trials
from common_bench.cli import main
from common_bench.fits.group_line import group_line
from common_bench.lesson.table_pool import pooled_json
from common_bench.model.measured import Measured
from common_bench.model.plan import ClassGraph, Condition, Plan
from common_bench.model.plan_file import shipped_plan
from common_bench.model.run import PoolRow
from common_bench.model.trouble import CalibrationTrouble
from common_bench.model.uncertainty import coverage_factor
from common_bench.pool.class_line import class_result
from common_bench.pool.limits import limit_words
from common_bench.pool.places import FittedLines
from simulated import KINDS_OF_CLASS, KindOfClass, class_places

PLAN = shipped_plan("swinging-bottles")
G = 9.81


def rows_of(
    dice: np.random.Generator, groups: int = 8, *, between: float = 0.0, lengths: int = 1, runs: int = 3
) -> list[PoolRow]:
    """A class with swinging bottles: a group's period is off by `between` stated uncertainties of its run."""
    rows = []
    for group in range(groups):
        off = dice.normal(0, between * 0.002)
        own = 0.4 + 0.9 * (group + np.arange(lengths) * groups / lengths) / groups
        for length in own:
            stated = float(length + dice.normal(0, 0.003))
            for _ in range(runs):
                period = 2 * np.pi * np.sqrt(length / G) + off + dice.normal(0, 0.002)
                rows.append(
                    PoolRow(
                        len(rows), group, f"Group {group}", len(rows), {"length": Measured(stated, 0.003, "m")},
                        {"period": Measured(float(period), 0.002, "s")},
                    )
                )  # fmt: skip
    return rows


@pytest.mark.parametrize("kind", KINDS_OF_CLASS, ids=lambda kind: kind.name)
def test_the_interval_of_the_slope_holds_as_often_as_it_says_and_is_hardly_wider_than_the_best(
    kind: KindOfClass,
) -> None:
    dice = np.random.default_rng(11)
    inside, slopes, best = [], [], []
    count = trials(240, 120)
    for at in range(count):
        places = class_places(dice, kind, groups=(4, 6, 12)[at % 3], runs=1 + at % 3)
        line = group_line(places.x, places.y, places.u_x, places.v, places.groups)
        inside.append(abs(line.slope - places.slope) <= coverage_factor(line.u_dof) * line.covariance[1, 1] ** 0.5)
        slopes.append((line.slope - places.slope) / places.best_u)
        best.append(line.u_dof)
    assert 0.90 <= np.mean(inside) <= 0.99, np.mean(inside)
    assert float(np.sqrt(np.mean(np.square(slopes)))) < 1.2, "of the scatter of the best linear estimator"
    assert min(best) >= 2


@pytest.mark.parametrize("groups", [4, 5, pytest.param(8, marks=pytest.mark.long_proof)])
@pytest.mark.parametrize("differ", [0.0, 3.0])
def test_in_clean_classes_hardly_anybody_stands_out(groups: int, differ: float) -> None:
    dice = np.random.default_rng(5)
    count = trials(100, 15 if groups == 4 else 50)
    results = [class_result(PLAN, rows_of(dice, groups, between=differ)) for _ in range(count)]
    out = [any(place.stands_out for place in result.places) for result in results]
    assert np.mean(out) <= 0.11, "one of twenty"
    if groups == 4:
        assert not any(out)
        assert "nobody can be judged" in results[0].words[0]


@pytest.mark.parametrize(("groups", "differ"), [(8, 0.0), (12, 3.0)])
def test_a_group_that_is_off_by_what_is_told_stands_out_in_nine_of_ten_classes(groups: int, differ: float) -> None:
    dice = np.random.default_rng(8)
    found = []
    count = trials(90, 36)
    for _ in range(count):
        rows = rows_of(dice, groups, between=differ)
        told = class_result(PLAN, rows).seen_from
        assert told is not None
        assert told.unit == "s²"
        off = 1 if dice.random() < 0.5 else -1
        moved = [
            msgspec.structs.replace(row, findings={"period": msgspec.structs.replace(y, value=(y.value**2 + off * told.value) ** 0.5)}) if row.group == groups // 2 else row
            for row in rows for y in [row.findings["period"]]
        ]  # fmt: skip
        found.append(any(place.stands_out and place.group == groups // 2 for place in class_result(PLAN, moved).places))
    assert 0.80 <= np.mean(found) <= 0.98, "nine of ten"
    assert class_result(PLAN, rows_of(dice, 4)).seen_from is None, "of four nobody is judged"


def changed(row: PoolRow, length: float = 1.0, period: float = 1.0, more: float = 0.0) -> PoolRow:
    x, y = row.conditions["length"], row.findings["period"]
    return msgspec.structs.replace(
        row, conditions={"length": msgspec.structs.replace(x, value=x.value * length + more)},
        findings={"period": msgspec.structs.replace(y, value=y.value * period)},
    )  # fmt: skip


@given(st.integers(0, 10**6), st.integers(0, 7), st.sampled_from(["double", "half", "unit", "swap"]))
@settings(max_examples=24)
def test_a_mistake_without_a_free_number_is_named(seed: int, who: int, what: str) -> None:
    rows = rows_of(np.random.default_rng(seed))
    other = (who + 4) % 8
    lengths = {row.group: row.conditions["length"] for row in rows}
    for at, row in enumerate(rows):
        if what == "swap" and row.group in (who, other):
            rows[at] = msgspec.structs.replace(row, conditions={"length": lengths[other if row.group == who else who]})
        elif row.group == who and what != "swap":
            rows[at] = changed(
                row, **{"double": {"period": 2.0}, "half": {"period": 0.5}, "unit": {"length": 100.0}}[what]
            )
    place = next(each for each in class_result(PLAN, rows).places if each.group == who)
    assert place.stands_out
    expected = {
        "double": "period counted double", "half": "period counted half", "unit": "condition in another unit",
        "swap": f"condition swapped with Group {other}",
    }  # fmt: skip
    assert place.cause == expected[what], place.words


@given(st.integers(0, 10**6), st.sampled_from(["fixed", "factor"]))
@settings(max_examples=12)
def test_a_mistake_with_a_free_number_is_named_from_several_places_and_left_open_from_one(seed: int, what: str) -> None:
    wrong = {"fixed": {"more": 0.12}, "factor": {"length": 1.25}}[what]
    several = rows_of(np.random.default_rng(seed), lengths=4)
    found = class_result(PLAN, [changed(row, **wrong) if row.group == 3 else row for row in several])
    causes = {place.cause for place in found.places if place.group == 3 and place.stands_out}
    named = {"fixed": "length off by a fixed amount", "factor": "length off by a factor"}[what]
    assert causes <= {named, "period ^ 2 off by a factor", ""}, (
        "by a factor of length or of period² comes to nearly the same"
    )
    assert "fixed" not in what or named in causes or causes == {""}
    one = class_result(
        PLAN, [changed(row, **wrong) if row.group == 3 else row for row in rows_of(np.random.default_rng(seed))]
    )
    place = next(each for each in one.places if each.group == 3)
    assert place.stands_out
    assert place.cause == ""
    assert "may be at fault too" in place.words


def test_a_line_through_zero_and_a_parabola_are_what_the_plan_asks() -> None:
    rows = rows_of(np.random.default_rng(4))
    graph = ClassGraph("period ^ 2", "length", "g = 4 * pi ^ 2 / slope", line="through-zero")
    through = class_result(msgspec.structs.replace(PLAN, graph=graph), rows)
    assert through.line is not None
    assert through.finding is not None
    assert (through.line.intercept, through.line.u_at(0.0)) == (0.0, 0.0)
    assert abs(through.finding.value - G) < 4 * through.finding.u
    straight = class_result(PLAN, rows)
    assert straight.finding is not None
    assert through.finding.u < straight.finding.u, "what is known beforehand need not be found"
    bent = class_result(
        msgspec.structs.replace(PLAN, graph=msgspec.structs.replace(graph, line="parabola", finding="b = bend")), rows
    )
    assert bent.finding is not None
    assert bent.finding.unit == "s²/m²"
    assert abs(bent.finding.value) < 4 * bent.finding.u


def bent_rows(dice: np.random.Generator, form: str, between: float) -> list[PoolRow]:
    """A class whose findings follow a power or an exponential, each group off by a share of its own."""
    rows = []
    for group, x in enumerate(np.linspace(0.5, 4.0, 8)):
        true = 3.0 * x**-1.5 if form == "power" else 3.0 * np.exp(-0.7 * x)
        y, stated = true * np.exp(dice.normal(0, between)), float(x + dice.normal(0, 0.004))
        rows += [
            PoolRow(
                len(rows) + run, group, f"Group {group}", run, {"dose": Measured(stated, 0.004, "m")},
                {"rate_of": Measured(float(y * (1 + dice.normal(0, 0.01))), 0.01 * float(y), "N")},
            )
            for run in range(3)
        ]  # fmt: skip
    return rows


@pytest.mark.parametrize("form", ["power", "exponential"])
def test_a_power_and_an_exponential_are_found_as_often_as_they_say_and_nobody_who_fits_stands_out(form: str) -> None:
    name, true, unit = ("exponent", -1.5, "") if form == "power" else ("rate", -0.7, "1/m")
    plan = Plan("Bent", findings=("rate_of",), conditions=(Condition("dose", "m"),))
    dice = np.random.default_rng(17)
    inside, out = {"own": [], "factor": []}, []
    count = trials(120, 48)
    for at in range(count):
        rows = bent_rows(dice, form, 0.02 if at % 2 else 0.0)
        for key, formula, expected in (("own", f"n = {name}", true), ("factor", "a = factor", 3.0)):
            graph = ClassGraph("rate_of", "dose", formula, line=form)  # type: ignore[arg-type]
            result = class_result(msgspec.structs.replace(plan, graph=graph), rows)
            assert result.finding is not None
            inside[key].append(
                abs(result.finding.value - expected) <= coverage_factor(result.finding.dof) * result.finding.u
            )
        assert result.finding.unit == "N"
        out.append(any(place.stands_out for place in result.places))
    assert all(0.90 <= np.mean(each) <= 0.99 for each in inside.values()), inside
    assert np.mean(out) <= 0.11
    line = result.line
    assert line is not None
    assert line.at(2.0) == pytest.approx(3.0 * 2**-1.5 if form == "power" else 3.0 * np.exp(-1.4), rel=0.1)
    assert 0 < line.u_at(2.0) < 0.1 * line.at(2.0)
    told = pooled_json(result)["line"]
    assert told["form"] == form
    assert told[name] == pytest.approx(true, abs=0.1)
    wrong = [changed_dose(row, 1.3) if row.group == 2 else row for row in rows]
    assert [place.group for place in class_result(msgspec.structs.replace(plan, graph=graph), wrong).places if place.stands_out] == [2]  # fmt: skip
    below = class_result(msgspec.structs.replace(plan, graph=graph), [changed_dose(row, 1.0, -1.0) for row in rows])
    assert below.line is None
    assert "Group 0 has a value of y that is not above zero" in below.why_no_line


@given(
    st.integers(0, 10**6), st.integers(3, 9), st.integers(1, 4), st.sampled_from([0.0, 1.0, 4.0]), st.sampled_from([0.3, 1.0, 3.0]),
    st.sampled_from([(0, 1), (1,), (0, 1, 2), (0,)]),
)  # fmt: skip
@settings(max_examples=80)
def test_the_compiled_line_is_what_whole_matrices_give(
    seed: int, groups: int, visits: int, between: float, beyond: float, powers: tuple[int, ...]
) -> None:
    dice = np.random.default_rng(seed)
    whose = np.repeat(np.arange(groups), visits)
    x, v = dice.uniform(0.5, 2.0, len(whose)), dice.uniform(0.5, 2.0, len(whose)) * 1e-4
    y = 1 + 2 * x + between * 0.01 * dice.normal(size=groups)[whose] + beyond * np.sqrt(v) * dice.normal(size=len(x))
    assume(len(x) >= len(powers) + 2 and groups > len(powers))  # fewer do not tell what is between groups
    line = group_line(x, y, np.zeros(len(x)), v, whose, powers)
    matrix = np.stack([x**power for power in powers], axis=1)
    same = (whose[:, None] == whose[None, :]).astype(float)
    # What places state is multiplied by how much more they scatter within groups, told from there alone.
    within = np.linalg.matrix_rank(np.column_stack([same, matrix]))
    free = len(x) - int(within)
    rest = y - np.column_stack([same, matrix]) @ np.linalg.lstsq(
        np.column_stack([same, matrix]) / np.sqrt(v)[:, None], y / np.sqrt(v), rcond=None
    )[0]  # fmt: skip
    factor = float(rest @ (rest / v)) / free if free >= 2 else 1.0
    covariance = np.diag(v) * factor + line.between * same
    weighed = np.linalg.inv(covariance)
    inverse = np.linalg.inv(matrix.T @ weighed @ matrix)
    best = inverse @ matrix.T @ weighed @ y
    assert line.coefficients == pytest.approx(best, rel=1e-6, abs=1e-8)
    left, expected = float((y - matrix @ best) @ weighed @ (y - matrix @ best)), len(x) - len(powers)
    assert left == pytest.approx(expected, rel=1e-4) if line.between else left <= expected * (1 + 1e-6)
    told_within = free >= 2
    assert line.covariance == pytest.approx(inverse * (1.0 if told_within else left / expected), rel=1e-5)
    projector = weighed - weighed @ matrix @ inverse @ matrix.T @ weighed
    parts = [np.diag(v), same]
    told = np.array([[0.5 * np.trace(projector @ a @ projector @ b) for b in parts] for a in parts])
    pull = inverse @ matrix.T @ weighed
    gradient = np.array([float((pull @ each @ pull.T)[-1, -1]) for each in parts])
    dof = 2 * inverse[-1, -1] ** 2 / float(gradient @ np.linalg.pinv(told) @ gradient)
    assert line.u_dof == pytest.approx(dof if told_within else groups - len(powers), rel=1e-4)


def test_places_that_fix_no_line_are_told_in_words() -> None:
    x, whose = np.array([1.0, 1.0, 2.0, 2.0, 1.0]), np.arange(5)
    for powers in ((0, 1, 2), (1, 2, 3)):
        with pytest.raises(CalibrationTrouble, match="another value"):
            group_line(x, x**2, np.zeros(5), np.full(5, 0.1), whose, powers)
    with pytest.raises(CalibrationTrouble):
        group_line(np.ones(5), x, np.zeros(5), np.full(5, 0.1), whose)


@given(st.integers(0, 10**6), st.integers(5, 9), st.sampled_from([0.0, 2.0]))
@settings(max_examples=10)
def test_what_the_finding_would_be_without_a_group_is_what_it_is_when_that_is_set_aside(
    seed: int, groups: int, between: float
) -> None:
    rows = rows_of(np.random.default_rng(seed), groups, between=between)
    for place in class_result(PLAN, rows).places:
        left = [msgspec.structs.replace(row, aside="to see") if row.group == place.group else row for row in rows]
        alone = class_result(PLAN, left).finding
        assert alone is not None
        assert place.without is not None
        assert (place.without.value, place.without.u) == pytest.approx((alone.value, alone.u), rel=1e-9)


@pytest.mark.parametrize("seed", range(4))
def test_a_line_by_medians_is_told_where_some_at_an_end_pull_the_other_and_in_clean_classes_not(seed: int) -> None:
    rows = rows_of(np.random.default_rng(seed), 12, runs=2)

    def shorter(row: PoolRow) -> PoolRow:
        period = row.findings["period"]
        found = {"period": msgspec.structs.replace(period, value=0.9 * period.value)}
        return msgspec.structs.replace(row, findings=found) if row.group >= 10 else row

    pulled = class_result(PLAN, [shorter(row) for row in rows])
    assert pulled.line is not None
    assert abs(pulled.line.robust - 4 * np.pi**2 / G) < 0.1 * abs(pulled.line.slope - 4 * np.pi**2 / G)
    assert any("A line by medians" in words and "steeper" in words for words in pulled.words)
    assert "by medians" in pooled_json(pulled)["words"]
    assert not any("by medians" in words for words in class_result(PLAN, rows).words)


@pytest.mark.parametrize(("most", "of_runs", "of_x", "between"), [
    ("runs", 0.05, 1e-5, 0.0), ("condition", 1e-4, 0.02, 0.0), ("groups", 1e-4, 1e-5, 0.04),
])  # fmt: skip
def test_what_limits_a_class_is_told_with_what_would_help(
    most: str, of_runs: float, of_x: float, between: float
) -> None:
    plan = Plan(
        "Limits", findings=("rate_of",), conditions=(Condition("dose", "m"),), graph=ClassGraph("rate_of", "dose", "k = slope")
    )  # fmt: skip
    results = [
        class_result(plan, limited_rows(np.random.default_rng(seed), of_runs, of_x, between)) for seed in range(8)
    ]
    right = [each for each in results if each.limits is not None and each.limits.most == most]
    assert len(right) >= 6, "by chance groups may seem to differ"
    for result in right:
        found = result.limits
        assert found is not None
        expected = {"runs": (0.75**0.5, 1.0), "condition": (1.0, 0.5), "groups": (1.0, 1.0)}[most]
        exact = most == "groups" or result.line is None or result.line.between == 0
        assert (found.one_more_run, found.condition_twice_as_well) == pytest.approx(
            expected, abs=0.02 if exact else 0.3
        )
        assert found.one_more_group == pytest.approx((12 / 13) ** 0.5)
        assert result.finding is not None
        words = limit_words(found, "dose", result.finding)
        assert {"runs": "single runs scatter", "condition": "how well dose is known", "groups": "groups differ"}[
            most
        ] in words
        assert ("dose known twice as well" in words) == (most == "condition")
        assert words in pooled_json(result)["words"]


@given(st.integers(0, 10**6), st.integers(4, 12), st.sampled_from([0.0, 3.0]), st.sampled_from(["", " * (2.0 ± 0.1)"]))
@settings(max_examples=25)
def test_what_a_class_finding_is_made_of_adds_up_and_is_what_whole_matrices_give(
    seed: int, groups: int, between: float, constant: str
) -> None:
    rows = rows_of(np.random.default_rng(seed), groups, between=between)
    graph = msgspec.structs.replace(PLAN.graph, finding=f"s = slope{constant}", accepted="")
    result = class_result(msgspec.structs.replace(PLAN, graph=graph), rows)
    assert result.finding is not None
    told = {share.name: share.u for share in result.made_of}
    assert sum(u**2 for u in told.values()) == pytest.approx(result.finding.u**2, rel=2e-3), "but for what is left out"
    assert list(told.values()) == sorted(told.values(), reverse=True)
    assert ("constants" in told) == bool(constant)
    lines = FittedLines(graph)
    places = [place for place in result.places if not place.aside]
    line = lines.through(places)
    x, _, u_x, v, whose = lines.coordinates(places)
    of_x, same = (line.slope * u_x) ** 2, (whose[:, None] == whose[None, :]).astype(float)
    parts = {"single runs": np.diag(v), "length": np.diag(of_x), "groups differ": line.between * same}
    inverse, matrix = np.linalg.inv(sum(parts.values())), np.column_stack([np.ones(len(x)), x])
    weights = np.linalg.inv(matrix.T @ inverse @ matrix)[1] @ matrix.T @ inverse
    variances = {name: float(weights @ each @ weights) for name, each in parts.items()}
    of_line = result.finding.u**2 - told.get("constants", 0.0) ** 2
    for name, each in variances.items():
        share = each / sum(variances.values())
        assert told.get(name, 0.0) ** 2 / of_line == pytest.approx(share, abs=2e-3)
    assert pooled_json(result)["finding"]["made_of"][0]["name"] == next(iter(told))


@pytest.mark.parametrize(("most", "of_runs", "between", "common"), [
    ("runs", 0.05, 0.0, 0.0), ("groups", 0.001, 0.05, 0.0), ("shared", 0.001, 0.002, 0.05),
])  # fmt: skip
def test_what_limits_a_mean_of_groups_is_what_the_mean_scatters_less_without(
    most: str, of_runs: float, between: float, common: float
) -> None:
    plan = Plan("Compared", findings=("rate_of",))
    right = 0
    for seed in range(10):
        dice = np.random.default_rng(seed)
        levels = 1.0 + dice.normal(0, between, 12) + dice.normal(0, common)
        rows = [
            PoolRow(
                3 * group + run, group, f"Group {group}", run, {},
                {"rate_of": Measured(float(level + dice.normal(0, of_runs)), float(np.hypot(of_runs, common)), "N")},
            )
            for group, level in enumerate(levels)
            for run in range(3)
        ]  # fmt: skip
        result = class_result(plan, rows)
        found = result.limits
        assert found is not None
        assert result.finding is not None
        words = limit_words(found, result.x_label, result.finding)
        assert words in pooled_json(result)["words"]
        assert "known twice as well" not in words
        right += found.most == most
        if found.most == most:
            expected = {"runs": (0.75**0.5, (12 / 13) ** 0.5), "groups": (1.0, (12 / 13) ** 0.5), "shared": (1.0, 1.0)}
            assert (found.one_more_run, found.one_more_group) == pytest.approx(expected[most], abs=0.1)
    assert right >= 8, "by chance groups may seem to differ"


@pytest.mark.parametrize(("of_group", "of_class", "wide"), [
    (0.0, 0.0, 1.15), (0.0, 0.05, 1.15), (0.0, 0.012, 1.4), (0.03, 0.0, 1.6),
])  # fmt: skip
def test_a_mean_of_groups_holds_the_truth_whether_groups_or_all_share_what_their_calibration_is_known_to(
    of_group: float, of_class: float, wide: float
) -> None:
    """Where each group has a calibration of its own, nothing says that they have not one in common: that may be told as wide."""
    plan, of_runs, groups, inside, widths = Plan("Compared", findings=("rate_of",)), 0.02, 8, [], []
    stated = float(np.sqrt(of_runs**2 + of_group**2 + of_class**2))
    shared = float(np.hypot(of_group, of_class))
    for seed in range(trials(250, 100)):
        dice = np.random.default_rng(seed)
        levels = 1.0 + dice.normal(0, of_group, groups) + dice.normal(0, of_class)
        rows = [
            PoolRow(
                3 * group + run, group, f"Group {group}", run, {},
                {"rate_of": Measured(float(level + dice.normal(0, of_runs)), stated, "N", shared=shared)},
            )
            for group, level in enumerate(levels)
            for run in range(3)
        ]  # fmt: skip
        found = class_result(plan, rows).finding
        assert found is not None
        inside.append(abs(found.value - 1.0) <= coverage_factor(found.dof) * found.u)
        widths.append(found.u)
    assert np.mean(inside) >= 0.92
    assert np.mean(inside) <= 0.985 or of_group
    best = float(np.sqrt((of_runs**2 / 3 + of_group**2) / groups + of_class**2))
    assert 0.9 * best < np.mean(widths) < wide * best


def limited_rows(dice: np.random.Generator, of_runs: float, of_x: float, between: float) -> list[PoolRow]:
    rows = []
    for group, x in enumerate(np.linspace(0.5, 4.0, 12)):
        level = 1.0 + 2.0 * x + dice.normal(0, between)
        stated = Measured(float(x + dice.normal(0, of_x)), of_x, "m")
        rows += [
            PoolRow(
                len(rows) + run, group, f"Group {group}", run, {"dose": stated},
                {"rate_of": Measured(float(level + dice.normal(0, of_runs)), of_runs, "N")},
            )
            for run in range(3)
        ]  # fmt: skip
    return rows


def changed_dose(row: PoolRow, by: float, finding: float = 1.0) -> PoolRow:
    x, y = row.conditions["dose"], row.findings["rate_of"]
    return msgspec.structs.replace(
        row, conditions={"dose": msgspec.structs.replace(x, value=x.value * by)},
        findings={"rate_of": msgspec.structs.replace(y, value=y.value * finding)},
    )  # fmt: skip


def test_the_pool_of_a_table_by_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    table = tmp_path / "findings.csv"
    with table.open("w", newline="") as file:
        out = csv.writer(file)
        out.writerow(["class", "Group", "run", "length (cm)", "u_length (mm)", "period (s)", "u_period (s)"])
        for name, seed in (("9A", 1), ("9B", 2)):
            for row in rows_of(np.random.default_rng(seed)):
                period = row.findings["period"].value * (2 if name == "9B" and row.group == 2 else 1)
                out.writerow([name, row.alias, row.number, 100 * row.conditions["length"].value, 3, period, 0.002])
    assert main(["pool", "--table", str(table), "--plan", "swinging-bottles", "--json"]) == 0
    first, second = json.loads(capsys.readouterr().out)
    assert (first["class"], second["class"]) == ("9A", "9B")
    assert abs(first["finding"]["value"] - G) < coverage_factor(first["finding"]["dof"]) * first["finding"]["u"] * 1.5
    assert first["finding"]["unit"] == "m/s²"
    assert [each["cause"] for each in second["groups"] if each["stands_out"]] == ["period counted double"]
    assert "counted double" in second["words"]
    assert second["groups"][2]["without"]["value"] == pytest.approx(G, abs=0.5)
    assert main(["pool", "--table", str(table), "--plan", "swinging-bottles"]) == 0
    assert "Group 2 sits" in capsys.readouterr().out
    for bad, said in (
        ("run,length (m),period (s)\n1,1,2\n", "no column “group”"),
        ("group,run,period (s)\nA,1,2\n", "no column “length”"),
        ("group,length (m),period (s)\nA,long,2\n", "line 2"),
        ("group,length (m),period (s),u_period (s)\nA,1,2,-1\n", "below zero"),
        ("group,length (ell),period (s)\nA,1,2\n", "unit “ell”"),
        ("", "no rows"),
    ):
        table.write_text(bad)
        assert main(["pool", "--table", str(table), "--plan", "swinging-bottles"]) == 2
        assert said in capsys.readouterr().err, bad
    assert main(["pool", "--table", str(table)]) == 2
    assert "--plan" in capsys.readouterr().err


def swap_class(chance: np.random.Generator, n: int, *, swap: bool, faulty: bool) -> tuple[list[PoolRow], set[int]]:
    """Runs of n groups, two of whose lengths are swapped, and one of the others measured to the wrong place, where asked for."""
    length = chance.permutation(np.linspace(0.4, 0.4 + 0.15 * n, n))
    period = 2 * np.pi * np.sqrt(length / 9.81) * (1 + 0.002 * chance.standard_normal(n))
    stated, pair = length + 0.003 * chance.standard_normal(n), set[int]()
    if swap:
        one, other = (int(each) for each in chance.choice(n, 2, replace=False))
        stated[one], stated[other], pair = stated[other], stated[one], {one + 1, other + 1}
    if faulty:
        third = next(each for each in range(n) if each + 1 not in pair)
        stated[third] += 0.12
    return [
        PoolRow(
            at + 1, at + 1, f"group {at + 1}", 1, {"length": Measured(float(stated[at]), 0.003, "m")},
            {"period": Measured(float(period[at]), 0.003, "s")}, "", "", {},
        )
        for at in range(n)
    ], pair  # fmt: skip


@pytest.mark.parametrize("n", [5, 6, 8, 16])
@pytest.mark.parametrize("faulty", [False, True])
def test_two_groups_whose_conditions_were_swapped_are_both_named_beside_a_third_that_is_faulty_too(
    n: int, faulty: bool
) -> None:
    chance, named, false = np.random.default_rng(n), 0, 0
    tried = 12
    for _ in range(tried):
        rows, pair = swap_class(chance, n, swap=True, faulty=faulty)
        found = {
            place.group for place in class_result(PLAN, rows).places if place.cause.startswith("condition swapped")
        }
        named += found == pair
        assert found in (pair, set()), "nobody else is called swapped"
        rows, _ = swap_class(chance, n, swap=False, faulty=faulty)
        false += any("swapped" in place.cause for place in class_result(PLAN, rows).places)
    assert false == 0
    assert named >= (0.8 * tried if n > 5 else 0.4 * tried if not faulty else 0), (
        named
    )  # of five, two and one more are too many


def test_a_wide_interval_tells_nothing_and_of_four_groups_the_farthest_is_told() -> None:
    chance = np.random.default_rng(1)
    rows, _ = swap_class(chance, 4, swap=False, faulty=True)
    result = class_result(PLAN, rows)
    assert result.finding is not None
    assert result.is_too_wide, "four groups and one of them wrong: the interval holds anything"
    assert "With 5 or more" in " ".join(result.words)
    compared = msgspec.structs.replace(PLAN, graph=ClassGraph("period"))
    alike = [
        msgspec.structs.replace(row, findings={"period": Measured(1.0 + 0.01 * row.run, 0.003, "s")})
        for row in rows[:3]
    ]
    far = msgspec.structs.replace(rows[3], findings={"period": Measured(1.5, 0.003, "s")})
    words = " ".join(class_result(compared, [*alike, far]).words)
    assert "group 4 lies farthest: 0.48 s above the mean of the other 3." in words, words
    clean = class_result(PLAN, swap_class(chance, 8, swap=False, faulty=False)[0])
    assert not clean.is_too_wide
