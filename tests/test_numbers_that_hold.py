"""What is unknown looks unknown, what is common stays common, and what is written says what is meant."""

from __future__ import annotations

import json
import math
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from common_bench.calibrate.applied import Applied
from common_bench.calibrate.copied import cell_of
from common_bench.calibrate.fitting import calibrate
from common_bench.calibrate.judging import sentence, worth
from common_bench.calibrate.points import take_point
from common_bench.cli import main
from common_bench.lesson.plan_details import against_line, with_detail
from common_bench.model.block import Source
from common_bench.model.calibration import CurveChoice, PlannedPoint, ReferencePoint
from common_bench.model.measured import Measured, read_measured, written
from common_bench.model.plan_file import plan_from_text, plan_to_text, shipped_plan
from common_bench.model.trouble import Trouble
from common_bench.model.uncertainty import combined, coverage_factor
from common_bench.workings.over import number_from
from simulated import TRUTHS, Truth, points_of
from test_trust import worked


@given(st.floats(-1e12, 1e12), st.floats(1e-18, 1e12))
def test_what_is_written_can_be_read_again_to_the_digits_that_it_shows(value: float, u: float) -> None:
    assume(u > 1e-12 * abs(value))  # float64 tells no more
    text = written(value, u, "m")
    read = read_measured(text, "m")
    assert read.u == pytest.approx(u, rel=0.17), "two digits where the first is a 1 or a 2, else one"
    assert abs(read.value - value) <= 0.51 * u
    assert "± 0 " not in text
    assert not text.startswith(("0.0000000", "-0.0000000"))


@given(st.floats(-1e12, 1e12), st.floats(1e-18, 1e12), st.floats(1, 200))
def test_what_is_exported_is_exact(value: float, u: float, dof: float) -> None:
    measured = Measured(value, u, "m", dof)
    assert msgspec.json.decode(msgspec.json.encode(measured), type=Measured) == measured


@pytest.mark.parametrize(
    ("value", "u", "text"),
    [
        (1.9031, 0.0061, "1.903 ± 0.006 s"),
        (1.9031, 0.0026, "1.9031 ± 0.0026 s"),
        (1.9031, 0.0096, "1.903 ± 0.010 s"),
        (1.602e-19, 4e-21, "(1.60 ± 0.04) × 10⁻¹⁹ s"),
        (5.97e24, 3e21, "(5.970 ± 0.003) × 10²⁴ s"),
        (1.9, math.nan, "1.900 ± ? s"),
        (12.0, 0.0, "12.00 s"),
        (math.nan, 1.0, "—"),
    ],
)
def test_digits_follow_one_rule(value: float, u: float, text: str) -> None:
    assert written(value, u, "s") == text


def table_of(path: Path, rows: list[tuple[float, ...]]) -> Path:
    lines = ["reading (counts),u_reading,reference (N),u_reference", *(",".join(map(str, row)) for row in rows)]
    path.write_text("\n".join(lines), "utf-8")
    return path


def test_two_points_that_state_nothing_know_nothing(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    two = table_of(tmp_path / "two.csv", [(100.0, 0.0, 0.0, 0.0), (500.0, 0.0, 2.0, 0.0)])
    assert main(["calibrate", str(two), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert [each["u"] for each in told["parameters"].values()] == [None, None]
    assert main(["calibrate", str(two)]) == 0
    said = capsys.readouterr().out
    assert "± ?" in said
    assert "nobody knows" in said
    ready = Applied(calibrate("c", "q", "N", "straight line", [ReferencePoint("a", 100.0, 0.0, 0.0, 0.0, "N"), ReferencePoint("b", 500.0, 0.0, 2.0, 0.0, "N")]))  # fmt: skip
    series = ready.series(np.zeros(3), np.array([150.0, 200.0, 300.0]))
    assert np.isnan(series.u).all()
    assert worth(ready).startswith("± ?")


def test_what_rests_on_something_unknown_is_unknown_and_what_does_not_is_not() -> None:
    names = {"a": Measured(3.0, math.nan, "m", 0.0), "b": Measured(2.0, 0.1, "m")}
    assert math.isnan(number_from("a + b", names).u)
    assert number_from("a - a + b", names).u == pytest.approx(0.1), "what cancels does not enter"
    assert "± ?" in str(number_from("a * b", names))


def test_a_class_of_which_one_group_knows_nothing_is_judged_by_how_it_scatters() -> None:
    from common_bench.model.class_line import GroupPlace
    from common_bench.model.plan import ClassGraph
    from common_bench.pool.places import FittedLines

    places = [GroupPlace(k, f"{k}", 1, Measured(float(k), 0.01, "m"), Measured(2.0 * k + (-1) ** k * 0.1, 0.01 if k else math.nan, "s"), math.nan, math.nan, "") for k in range(5)]  # fmt: skip
    line = FittedLines(ClassGraph("y", "x")).through(places)
    assert line.u_dof == 3
    assert math.isfinite(line.covariance[1, 1])
    assert line.covariance[1, 1] > 0


@pytest.mark.parametrize(("dof", "factor"), [(1, 12.706), (2, 4.303), (4, 2.776), (8, 2.306), (math.inf, 1.960)])
def test_intervals_take_students_t(dof: float, factor: float) -> None:
    assert coverage_factor(dof) == pytest.approx(factor, abs=6e-4)  # JCGM 100, table G.2


def test_degrees_of_freedom_are_put_together_as_the_guide_does() -> None:
    # JCGM 100, H.1.6: 19² nm with 50, then 25 nm with 18, 9.7 with 25.6, 16.6 with 2 and 2.9 with 50: about 16.7
    parts = {Source(f"{u}", False, "", dof): u for u, dof in ((25.0, 18.0), (9.7, 25.6), (2.9, 50.0), (16.6, 2.0))}
    u, dof = combined(parts)
    assert u == pytest.approx(31.7, abs=0.1)
    assert 16 < dof < 25.8


@pytest.mark.parametrize("truth", [t for t in TRUTHS if t.kind != "monotone table"], ids=lambda t: t.kind + (" after steps" if t.steps else ""))  # fmt: skip
def test_a_copied_cell_gives_the_curve_within_a_tenth_of_its_uncertainty(truth: Truth) -> None:
    ready = Applied(calibrate("c", "q", truth.unit, CurveChoice(truth.kind, truth.steps), points_of(truth, np.random.default_rng(5))))  # fmt: skip
    cell = cell_of(ready)
    assert cell.startswith("=")
    raw = np.linspace(truth.at.min(), truth.at.max(), 50)
    names = {"LN": np.log, "EXP": np.exp, "A1": ready.taken(raw)}
    copied = eval(cell[1:].replace("^", "**"), {"__builtins__": {}}, names)  # as a spreadsheet works it out
    assert (np.abs(copied - ready.value(raw)) < 0.1 * ready.u(raw)).all()
    assert sentence(ready)


def test_a_bend_that_begins_at_nothing_is_still_fitted() -> None:
    held = [(8412.0, 0.0, 0.001), (108412.0, 0.981, 0.003), (208700.0, 1.961, 0.003), (308700.0, 2.942, 0.003)]
    points = [ReferencePoint(f"{k}", x, 30.0, y, u, "N") for k, (x, y, u) in enumerate(held)]
    p, covariance = Applied(calibrate("c", "q", "N", "polynomial of degree 2", points)).natural()
    x, y, u = (np.array(each) for each in zip(*held, strict=True))
    own = np.hypot(u, 9.8e-6 * 30.0)
    best, cov = np.polyfit(x, y, 2, w=1 / own, cov="unscaled")
    assert covariance[2, 2] ** 0.5 == pytest.approx(cov[0, 0] ** 0.5, rel=0.02)
    assert abs(p[2] - best[0]) < 0.05 * cov[0, 0] ** 0.5


@pytest.mark.parametrize("typed", ["one thermometer: 0.2", "one set of masses: 1 %", "both: 0.2 + 1 %"])
def test_an_error_that_all_references_share_is_carried_whole(typed: str) -> None:
    plan = shipped_plan("warm-baths")
    planned = with_detail(plan, 0, "against", typed)
    assert against_line(planned.sensors[0]) == typed
    assert plan_from_text(plan_to_text(planned), "here").sensors[0] == planned.sensors[0]
    choice = msgspec.structs.replace(planned.sensors[0].choice("counts"), curve="straight-line", steps=())
    x = np.linspace(100, 900, 5)
    points = [ReferencePoint(f"{k}", float(at), 0.1, 10 + 0.05 * float(at), 0.01, "°C") for k, at in enumerate(x)]
    ready = Applied(calibrate("c", "q", "°C", choice, points))
    at = np.array([150.0, 500.0, 850.0])
    alone = Applied(calibrate("c", "q", "°C", msgspec.structs.replace(choice, common_u=0.0, common_share=0.0), points))
    whole = np.hypot(choice.common_u, choice.common_share * ready.value(at))
    np.testing.assert_allclose(ready.u(at), np.hypot(alone.u(at), whole), rtol=1e-3)


def test_a_formula_in_kelvin_for_degrees_says_from_where_it_counts() -> None:
    def made(formula: str) -> float:
        choice = CurveChoice("formula", (), formula, 0.5, "")
        return float(Applied(calibrate("c", "temp", "°C", choice, ())).value(np.array([250.0]))[0])

    with pytest.raises(Trouble) as refused:
        made("temp = reading * 0.1 K")
    assert refused.value.code == "kelvin-for-temperature"
    assert made("temp = 0 °C + reading * 0.1 K") == pytest.approx(25.0)
    assert made("temp = reading * 1 K as °C") == pytest.approx(-23.15)


def test_a_sensor_that_shows_whole_degrees_knows_no_more_than_its_step() -> None:
    t = np.arange(200) * 0.1
    point = take_point(PlannedPoint("bath", 21.2, 0.05), "°C", t, np.full(200, 21.0))
    assert point.u_reading >= (1 - 1e-9) / 12**0.5
    finer = take_point(PlannedPoint("bath", 21.2, 0.05), "°C", t, np.full(200, 21.5), resolution=0.5)
    assert (1 - 1e-9) * 0.5 / 12**0.5 <= finer.u_reading < 0.2


def test_a_run_that_begins_on_a_falling_flank_has_no_peak_there_and_a_dent_makes_none() -> None:
    t = np.arange(1500) * 0.02
    dice = np.random.default_rng(2)
    x = np.cos(2 * np.pi * (t + 0.1) / 2.0) + dice.normal(0, 0.003, len(t))
    dented = x - 0.3 * np.exp(-0.5 * (((t + 0.1) % 2.0 - 0.15) / 0.03) ** 2)
    for signal in (x, dented):
        found = worked(["e = peaks in x above 0.2, 0.6 s apart", "n = count of e", "p = pace of e"], signal, 0.003)
        assert found["n"][0] == 14, "those at 1.9, 3.9 … 27.9 s"
        assert found["p"][0] == pytest.approx(0.5, abs=max(0.002, 3 * found["p"][1]))


def test_a_pace_that_changes_is_told() -> None:
    t = np.arange(3000) * 0.02
    slowing = np.sin(2 * np.pi * (0.8 * t - 0.002 * t**2))
    from common_bench.model.block import Block, Series
    from common_bench.workings.evaluate import Evaluator, check
    from common_bench.workings.over import over_span
    from common_bench.workup.findings import findings_of

    for signal, changes in ((slowing, True), (np.sin(2 * np.pi * 0.8 * t), False)):
        noisy = signal + np.random.default_rng(3).normal(0, 0.02, len(t))
        workings = check(["x = calibrated raw", "e = peaks in x above 0.5, 0.5 s apart", "p = pace of e", "m = mean of gap between e"], {"raw": ""})  # fmt: skip
        block = Block(t, t, t, np.arange(len(t)), np.zeros(len(t), bool), {"raw": noisy}, np.zeros(len(t)))
        results = Evaluator(workings).push(block, {"raw": Series(t, noisy, "", {Source("noise", False): np.full(len(t), 0.02)})})  # fmt: skip
        for finding in findings_of(workings, results, (0.0, 60.0), ["p", "m"]):
            assert ("the pace changes" in finding.how) == changes
        assert over_span(workings, results, (0.0, 60.0))["p"].unit == "Hz"
