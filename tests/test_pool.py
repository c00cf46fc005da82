"""The pool: the class line, who stands out, scatter, tables that any program reads."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.exchange.figure import class_graph
from common_bench.exchange.tables import csv_text, harmless, pool_csv, pool_json
from common_bench.model.bench import emblem_for
from common_bench.model.measured import Measured
from common_bench.model.plan import ClassGraph
from common_bench.model.plan_file import shipped_plan
from common_bench.model.run import PoolRow
from common_bench.model.trouble import PoolTrouble
from common_bench.model.uncertainty import coverage_factor
from common_bench.pool.class_line import LEAST_GROUPS, class_result

PLAN = shipped_plan("swinging-bottles")
LENGTHS = (0.5, 0.62, 0.75, 0.9, 1.1, 1.3)
G = 9.81


def rows_of(
    dice: np.random.Generator,
    *,
    wrong: dict[int, float] | None = None,
    aside: dict[int, str] | None = None,
    runs: int = 3,
    groups: int = 6,
) -> list[PoolRow]:
    """A class: one length with its error for each group, `runs` periods with theirs."""
    rows = []
    for group in range(groups):
        stated = LENGTHS[group] + dice.normal(0, 0.003) + (wrong or {}).get(group, 0.0)
        for number in range(1, runs + 1):
            period = 2 * np.pi * np.sqrt(LENGTHS[group] / G) + dice.normal(0, 0.002)
            rows.append(
                PoolRow(
                    10 * group + number, group, f"Group {group}", number, {"length": Measured(stated, 0.003, "m")},
                    {"period": Measured(float(period), 0.002, "s")}, (aside or {}).get(group, ""),
                )
            )  # fmt: skip
    return rows


@pytest.mark.parametrize("words", ["$x^{$", "\\frac{1}{0}", "100 % & $5", "\x00\x1b[31m", "two\nlines", "x" * 10_000])
def test_the_class_graph_on_paper_takes_any_words_as_they_are(words: str, tmp_path: Path) -> None:
    rows = [msgspec.structs.replace(row, alias=words) for row in rows_of(np.random.default_rng(2))]
    result = class_result(PLAN, rows)
    class_graph(tmp_path / "g.png", words, result, {group: emblem_for(group) for group in range(6)})
    assert (tmp_path / "g.png").stat().st_size > 10_000


@pytest.mark.long_proof
def test_g_is_held_by_its_interval_as_often_as_it_says() -> None:
    dice = np.random.default_rng(8)
    inside, outs = [], 0
    for _ in range(300):
        result = class_result(PLAN, rows_of(dice))
        assert result.finding is not None
        inside.append(abs(result.finding.value - G) < coverage_factor(result.finding.dof) * result.finding.u)
        outs += any(place.stands_out for place in result.places)
    assert 0.92 <= np.mean(inside) <= 0.98
    assert outs < 0.09 * 300, "in one clean class of twenty somebody stands out"


@given(st.integers(0, 5), st.sampled_from([-0.09, -0.06, 0.06, 0.09]), st.integers(0, 1000))
def test_the_group_that_measured_wrongly_stands_out_farthest(group: int, off: float, seed: int) -> None:
    result = class_result(PLAN, rows_of(np.random.default_rng(seed), wrong={group: off}))
    out = sorted((place for place in result.places if place.stands_out), key=lambda place: -abs(place.away))
    assert out[0].group == group
    assert len(out) <= 2, "by chance one of four hundred others lies beyond three uncertainties"
    assert out[0].x_off == pytest.approx(off, abs=0.03)
    assert ("low" in out[0].words) == (off > 0)
    assert ("large" in out[0].words) == (off > 0)
    assert "measured to the wrong place?" in out[0].words


def test_setting_a_group_aside_leaves_it_in_sight_and_out_of_the_line() -> None:
    wrong = {2: 0.09}
    with_it = class_result(PLAN, rows_of(np.random.default_rng(1), wrong=wrong))
    without = class_result(PLAN, rows_of(np.random.default_rng(1), wrong=wrong, aside={2: "measure again"}))
    assert with_it.finding is not None
    assert without.finding is not None
    assert without.line is not None
    assert (without.line.groups, without.line.runs) == (5, 15)
    assert len(without.points) == 18
    assert without.places[2].aside == "measure again"
    assert without.places[2].away == pytest.approx(with_it.places[2].away)
    assert without.finding.u < with_it.finding.u / 3
    assert abs(without.agreement) < 3
    assert without.between < with_it.between / 3
    assert without.finding.unit == "m/s²"


def test_a_length_error_is_common_to_a_groups_runs_so_more_runs_do_not_hide_it() -> None:
    few = class_result(PLAN, rows_of(np.random.default_rng(2), runs=2))
    many = [class_result(PLAN, rows_of(np.random.default_rng(seed), runs=30)) for seed in range(24)]
    assert few.places[0].x.u == many[0].places[0].x.u == 0.003
    slope_from_lengths = 0.003 * 4 * np.pi**2 / G / (np.std(LENGTHS) * 6**0.5)
    us = [each.finding.u for each in many if each.finding is not None]
    assert float(np.mean(np.square(us))) ** 0.5 >= 0.85 * slope_from_lengths * G**2 / (4 * np.pi**2)


def test_within_and_between_groups_are_told_apart() -> None:
    result = class_result(PLAN, rows_of(np.random.default_rng(3), runs=12))
    periods = [2 * np.pi * np.sqrt(length / G) for length in LENGTHS]
    assert result.within == pytest.approx(2 * np.mean(periods) * 0.002, rel=0.25)
    assert 0 <= result.between < 0.03


def test_too_few_groups_a_missing_condition_and_a_plan_without_a_graph_are_told() -> None:
    rows = rows_of(np.random.default_rng(1))
    few = class_result(PLAN, [row for row in rows if row.group < LEAST_GROUPS - 1])
    assert few.line is None
    assert few.finding is None
    assert "needs 3 groups; 2 are in" in few.why_no_line
    empty = class_result(PLAN, [])
    assert empty.points == ()
    lacking = [msgspec.structs.replace(row, conditions={}) if row.group == 1 else row for row in rows]
    assert {point.group for point in class_result(PLAN, lacking).points} == {0, 2, 3, 4, 5}
    same = [msgspec.structs.replace(row, conditions={"length": Measured(1.0, 0.003, "m")}) for row in rows]
    assert "same reading" in class_result(PLAN, same).why_no_line
    compared = class_result(msgspec.structs.replace(PLAN, graph=None), rows)
    assert compared.line is None
    assert compared.level is not None
    assert (compared.x_label, compared.y_label, compared.finding) == ("", "period", compared.level.mean)
    with pytest.raises(PoolTrouble, match="no finding"):
        class_result(msgspec.structs.replace(PLAN, graph=None, findings=()), rows)
    nonsense = msgspec.structs.replace(PLAN, graph=ClassGraph("period ^ 2", "length", "g = slope + 3 kg"))
    assert class_result(nonsense, rows).finding is None


def test_the_pool_goes_out_as_csv_with_units_in_the_headers_and_as_json() -> None:
    rows = rows_of(np.random.default_rng(1), wrong={2: 0.09}, aside={2: 'said "to the cap",\r\nnot the middle'})
    result = class_result(PLAN, rows)
    text = pool_csv(rows, result)
    assert text.count("\r\n") == 1 + 18 + 3  # the header, a line each, and three inside quotes
    table = list(csv.DictReader(io.StringIO(text, newline="")))
    assert len(table) == 18
    assert table[0].keys() == {
        "group", "run", "length (m)", "u_length (m)", "period (s)", "u_period (s)", "period ^ 2 (s²)", "u_period ^ 2 (s²)",
        "from class line (s²)", "note", "set aside because",
    }  # fmt: skip
    for line, row in zip(table, rows, strict=True):
        assert float(line["period (s)"]) == row.findings["period"].value
        assert line["set aside because"] == row.aside
    found = json.loads(pool_json("p", "9B", rows, result))
    assert found["class_result"]["finding"]["unit"] == "m/s²"
    assert len(found["runs"]) == 18
    assert found["class_result"]["line"]["groups"] == 5
    few = class_result(PLAN, rows[:3])
    assert json.loads(pool_json("p", "9B", rows[:3], few))["class_result"]["within"] is not None
    assert json.loads(pool_json("p", "9B", rows[:3], few))["class_result"]["between"] is None
    assert "nan" not in pool_csv(rows[:3], few)


@given(
    st.lists(
        st.lists(
            st.one_of(st.text(), st.integers(), st.floats(allow_nan=False, allow_infinity=False)),
            min_size=2,
            max_size=2,
        )
    )
)
def test_any_table_is_read_again_by_a_csv_reader(rows: list[list[object]]) -> None:
    text = csv_text(["a", 'b "c", d'], rows)
    again = list(csv.reader(io.StringIO(text, newline="")))
    assert again[0] == ["a", 'b "c", d']
    assert again[1:] == [[repr(v) if isinstance(v, float) else harmless(str(v)) for v in row] for row in rows]


def test_groups_that_change_their_condition_have_a_point_for_each_value() -> None:
    rows = rows_of(np.random.default_rng(4))
    more = []
    for length in (0.5, 0.9, 1.3):
        period = Measured(2 * np.pi * (length / G) ** 0.5, 0.002, "s")
        conditions = {"length": Measured(length, 0.003, "m")}
        more += [msgspec.structs.replace(row, conditions=conditions, findings={"period": period}) for row in rows[:3]]
    kept = [row for row in rows if row.group > 2] + [
        msgspec.structs.replace(row, run=1000 + at) for at, row in enumerate(more)
    ]
    result = class_result(PLAN, kept)
    assert result.finding is not None
    assert abs(result.finding.value - G) < 4 * result.finding.u, "never a mean over different conditions"
    assert sum(place.group == rows[0].group for place in result.places) == 3
