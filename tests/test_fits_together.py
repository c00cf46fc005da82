"""Parameters that several runs share: the same line through all of them, known as well as all together tell."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from chance import trials
from common_bench.cli import main
from common_bench.desk.work.stage import WorkStage
from common_bench.lesson.bring_files import bring_files
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.table_fit import fitted_table, fitted_tables
from common_bench.model.measured import read_measured
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.trouble import FindingTrouble
from common_bench.model.uncertainty import coverage_factor
from common_bench.workup.shared_curves import shared_in
from person import Desk


def table(path: Path, t: np.ndarray, y: np.ndarray, u: float | None) -> Path:
    stated = f",{u}" if u is not None else ""
    path.write_text(
        f"t (s),y (V){',u_y (V)' if u is not None else ''}\n"
        + "".join(f"{a:.4f},{b:.6f}{stated}\n" for a, b in zip(t, y, strict=True))
    )
    return path


@given(st.integers(0, 10**6), st.booleans())
@settings(max_examples=20)
def test_a_slope_that_lines_share_is_what_all_their_readings_say_by_hand(
    tmp_path_factory: pytest.TempPathFactory, seed: int, stated: bool
) -> None:
    """With one slope b and a level each, least squares gives b = Σ Sxy / Σ Sxx over the runs, known to σ / √ Σ Sxx."""
    dice, folder = np.random.default_rng(seed), tmp_path_factory.mktemp("lines")
    runs = []
    for number in range(3):
        t = np.sort(dice.uniform(0, 10, 12 + 5 * number))
        runs.append((t, dice.normal(0, 5) + 0.7 * t + dice.normal(0, 0.1, len(t))))
    paths = [table(folder / f"run{k}.csv", t, y, 0.1 if stated else None) for k, (t, y) in enumerate(runs)]
    fit = fitted_tables(paths, "y = a + b * t", ["b"])
    assert list(fit.values) == ["b", "a of run0", "a of run1", "a of run2"]
    sxx = sum(float(((t - t.mean()) ** 2).sum()) for t, _ in runs)
    sxy = sum(float(((t - t.mean()) * (y - y.mean())).sum()) for t, y in runs)
    assert fit.values["b"] == pytest.approx(sxy / sxx, rel=1e-5)  # tables have six digits
    for k, (t, y) in enumerate(runs):
        assert fit.values[f"a of run{k}"] == pytest.approx(y.mean() - fit.values["b"] * t.mean(), abs=1e-4)
    count = sum(len(t) for t, _ in runs)
    assert fit.dof == count - 4
    left = sum(float(((y - y.mean() - sxy / sxx * (t - t.mean())) ** 2).sum()) for t, y in runs)
    usual = (left / (count - 4) / sxx) ** 0.5
    assert fit.usual["b"] == pytest.approx(
        usual if not stated else 0.1 * (fit.chi_square / fit.dof) ** 0.5 / sxx**0.5, rel=1e-3
    )
    assert fit.number("b").measured.u >= 0.99 * usual


def test_a_time_that_fading_runs_share_is_held_by_its_interval_as_often_as_it_says(tmp_path: Path) -> None:
    dice, inside, width, alone = np.random.default_rng(8), [], [], []
    t = np.linspace(0, 20, 60)
    count = trials(40, 18)
    for _ in range(count):
        paths = [
            table(tmp_path / f"{k}.csv", t, size * np.exp(-t / 4.7) + dice.normal(0, 0.05, 60), 0.05)
            for k, size in enumerate((5.0, 3.0, 1.5))
        ]
        fit = fitted_tables(paths, "y = A * exp(-t / tau)", ["tau"])
        found = fit.number("tau").measured
        inside.append(abs(found.value - 4.7) <= coverage_factor(found.dof) * found.u)
        width.append(found.u)
        if len(alone) < 12:
            alone.append(fitted_table(paths[0], "y = A * exp(-t / tau)").number("tau").measured.u)
    assert np.mean(inside) >= 0.88, "95 of 100"
    assert np.mean(width) < np.mean(alone), "three runs say more than one"


def test_together_by_the_command_line_and_what_cannot_be_shared(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    t = np.linspace(0, 10, 40)
    dice = np.random.default_rng(2)
    one, two = (table(tmp_path / f"{name}.csv", t, size * np.exp(-t / 3) + dice.normal(0, 0.01, 40), 0.01) for name, size in (("one", 4.0), ("two", 2.0)))  # fmt: skip
    command = ["fit", str(one), "y = A * exp(-t / tau)", "--also", str(two), "--shared", "tau"]
    assert main([*command, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert list(told["parameters"]) == ["tau", "A of one", "A of two"]
    assert told["parameters"]["tau"]["value"] == pytest.approx(3.0, abs=0.05)
    assert told["parameters"]["A of two"]["unit"] == "V"
    assert np.array(told["covariance"]).shape == (3, 3)
    assert (told["n"], told["dof"]) == (80, 77)
    assert main(["fit", str(one), "y = A * exp(-t / tau)", "--also", str(two), "--shared", "nothing"]) == 2
    said = capsys.readouterr().err
    assert "nothing" in said
    assert "A, tau" in said
    with pytest.raises(FindingTrouble, match="fitted together"):
        fitted_tables([one], "y = A * exp(-t / tau)", ["tau"])


@pytest.mark.parametrize(("text", "curve", "shared"), [
    ("A * exp(-t / tau) + c, tau shared", "A * exp(-t / tau) + c", ("tau",)),
    ("A * sin(w * t + h), w and A shared", "A * sin(w * t + h)", ("w", "A")),
    ("y fitted by a + b * t, a, b shared", "y fitted by a + b * t", ("a", "b")),
    ("A * exp(-t / tau), c held at 0 V", "A * exp(-t / tau), c held at 0 V", ()),
])  # fmt: skip
def test_what_is_shared_stands_at_the_end_of_a_curve(text: str, curve: str, shared: tuple[str, ...]) -> None:
    assert shared_in(text) == (curve, shared)


def test_a_curve_through_all_runs_of_a_group_is_tried_in_the_window(
    tmp_path: Path, alone: Callable[[OpenLesson], Desk]
) -> None:
    book, dice = tmp_path / "fading.benchbook", np.random.default_rng(4)
    sensor = SensorPlan("volts", "voltage", unit="V", curve="as-it-comes")
    OpenLesson.make(book, Plan("Fading", sensors=(sensor,), show=("voltage",)), "9B", ["Flint", "Slate"]).close()
    t = np.arange(300) * 0.1
    for number, (size, tau, group) in enumerate(
        [(5, 6.0, "Flint"), (3, 6.0, "Flint"), (4, 9.0, "Slate"), (2, 6.0, "Flint")]
    ):
        y = size * np.exp(-t / tau) + dice.normal(0, 0.01, 300)
        file = tmp_path / f"run{number}.csv"
        file.write_text("time (s),volts\n" + "".join(f"{a:.1f},{b:.4f}\n" for a, b in zip(t, y, strict=True)))
        list(bring_files(book, [file], group, began="", ended=""))
    made = alone(OpenLesson.open(book))
    made.hub.select(made.lesson.store.groups[0].id)
    made.press("5")
    stage = made.window.stage
    assert isinstance(stage, WorkStage)
    made.until(lambda: "readings" in stage.subtitle.text(), "the run is read")
    made.press("C")
    made.answer("A * exp(-time / tau), nothing shared")
    made.see("the parameters A, tau", made.window)
    made.until(lambda: made.hub.messages.asks, "what was typed can be corrected")
    made.answer("A * exp(-time / tau), tau shared")
    made.see("tau is the same in 3 runs", stage.curve_card)
    words = stage.curve_card.words.text()
    assert "they agree" in words
    rows = [[stage.curve_card.parameters.item(row, at).text() for at in range(3)] for row in range(4)]
    assert rows[0][0] == "tau"
    assert rows[0][2] == "same in all"
    assert read_measured(rows[0][1], "s").value == pytest.approx(6.0, abs=0.05)
    assert {row[0] for row in rows[1:]} == {"A of run 1", "A of run 2", "A of run 3"}
    assert stage.curve_card.keep.isHidden(), "the plan's lines speak of one run"
    curve = stage.tried.of(stage._current().id)  # type: ignore[union-attr]
    assert curve is not None
    assert len(curve.fit.t) == len(curve.fit.curve) == 300, "as it lies in the run that is shown"
    made.press("Escape")
    made.until(lambda: stage.tried.of(stage._current().id) is None, "it is left")  # type: ignore[union-attr]
