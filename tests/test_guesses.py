"""What lies outside a calibration is a guess wherever it is seen: blocks, live window, findings, files, graphs."""

from __future__ import annotations

import csv
import io

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QImage, QPainter
from PyQt6.QtTest import QTest

from common_bench.calibrate.fitting import calibrate
from common_bench.desk.graphs.live_trace import LiveTrace
from common_bench.desk.graphs.strokes import BREAKS, broken_where
from common_bench.desk.graphs.tile_trace import TileTrace
from common_bench.desk.shell.application import application
from common_bench.exchange.tables import run_csv, series_csv
from common_bench.model.block import Series, Stamped
from common_bench.model.calibration import Calibration, CurveChoice
from common_bench.record.chain import Chain, Flow
from common_bench.record.live import LiveWindow
from common_bench.workings.evaluate import check, gathered
from common_bench.workings.formula import Formula
from common_bench.workup.findings import findings_of
from simulated import TRUTHS, Truth, points_of
from waiting import wait_for  # noqa: F401 - makes Qt offscreen before it is imported

APPLICATION = application()


def calibration(truth: Truth) -> Calibration:
    return calibrate("x", "q", truth.unit, CurveChoice(truth.kind, truth.steps), points_of(truth, np.random.default_rng(4)))  # fmt: skip


def stream(truth: Truth, n: int = 240) -> list[Stamped]:
    """Rows that lead from inside the points out of them and back, one each 20 ms."""
    low, high = float(truth.at.min()), float(truth.at.max())
    wave = low + (high - low) * (0.6 + 0.55 * np.sin(np.arange(n) / 20))
    rows = [b"ms;x\r\n", *(f"{20 * k};{value:.6g}\r\n".encode() for k, value in enumerate(wave))]
    return [Stamped(1.0 + 0.02 * k, row) for k, row in enumerate(rows)]


def fed(truth: Truth, cuts: list[int]) -> tuple[list[Flow], Chain]:
    workings = check(["q = calibrated x", "m = mean of q"], {"x": truth.unit})
    chain = Chain(workings, [calibration(truth)])
    rows = stream(truth)
    borders = sorted({0, len(rows), *(cut for cut in cuts if cut < len(rows))})
    return [chain.feed(rows[a:b]) for a, b in zip(borders[:-1], borders[1:], strict=True)], chain


@settings(max_examples=6)
@given(st.lists(st.integers(1, 240), max_size=12))
@pytest.mark.parametrize("truth", TRUTHS, ids=lambda t: t.kind + (" after steps" if t.steps else ""))
def test_the_chain_gives_the_same_bits_for_every_cut_with_every_curve(truth: Truth, cuts: list[int]) -> None:
    whole = gathered([worked.results for flow in fed(truth, [])[0] for worked in flow.worked])["q"]
    pieces = gathered([worked.results for flow in fed(truth, cuts)[0] for worked in flow.worked])["q"]
    assert isinstance(whole, Series)
    assert isinstance(pieces, Series)
    np.testing.assert_array_equal(pieces.values, whole.values)
    np.testing.assert_array_equal(pieces.u, whole.u)
    np.testing.assert_array_equal(pieces.guess, whole.guess)
    assert whole.guess is not None
    assert whole.guess.any()
    assert not whole.guess.all()


@pytest.mark.parametrize("truth", TRUTHS[:3] + TRUTHS[-2:], ids=lambda t: t.kind)
def test_guesses_go_with_the_value_into_live_window_finding_and_files(truth: Truth) -> None:
    flows, chain = fed(truth, list(range(10, 240, 10)))
    window = LiveWindow()
    for flow in flows:
        window.add(flow)
    picture = window.recent("q", 100.0)
    guessed = window.guesses("q", picture)
    whole = gathered([worked.results for flow in flows for worked in flow.worked])
    series = whole["q"]
    assert isinstance(series, Series)
    assert series.guess is not None
    assert guessed is not None
    np.testing.assert_array_equal(np.isfinite(guessed), series.guess[-len(guessed) :])
    assert guessed[np.isfinite(guessed)].tolist() == picture.values[np.isfinite(guessed)].tolist()
    window.forget("q")
    assert window.guesses("q", picture) is None
    workings = check(["q = calibrated x", "m = largest of q", "s = smallest of q"], {"x": truth.unit})
    finding, other = findings_of(workings, whole, (-1e9, 1e9), ["m", "s"])
    assert f"{int(series.guess.sum())} of them outside the calibration: a guess" in finding.how
    assert any(share.name.startswith("outside the points") for share in finding.made_of + other.made_of)
    inside = np.flatnonzero(~series.guess)
    calm = findings_of(workings, whole, (float(series.t[inside[0]]), float(series.t[inside[5]])), ["m"])[0]
    assert "guess" not in calm.how
    table = list(csv.DictReader(io.StringIO(run_csv(series.t, {}, {}, {"q": series}))))
    assert [row["q is a guess"] == "yes" for row in table] == series.guess.tolist()
    again = list(csv.DictReader(io.StringIO(series_csv("q", series))))
    assert [row["q is a guess"] == "yes" for row in again] == series.guess.tolist()


def test_a_live_trace_is_broken_where_it_is_a_guess_and_shows_its_limits() -> None:
    trace = LiveTrace("#1F6F6B")
    trace.resize(400, 160)
    trace.show()
    t = np.arange(0, 10, 0.02)
    values = np.sin(t) + 2
    guess = np.where(t > 5, values, np.nan)
    trace.show_picture(t, values, 10.0, 10.0, guess=guess)
    trace.show_band(1.5, 2.5)
    QTest.qWait(50)
    covered = np.isfinite(trace._guess.y)
    assert not covered[t <= 5].any()
    assert covered.sum() == pytest.approx((t > 5).sum() / 2, abs=10)
    assert trace._band.getRegion() == (1.5, 2.5)
    image = trace.grab().toImage()
    # The line is drawn all along on the left half, and in pieces on the right.
    inked = [
        any(image.pixelColor(x, y).blue() < 180 for y in range(image.height())) for x in range(60, image.width() - 5)
    ]
    left, right = inked[: len(inked) // 2 - 8], inked[len(inked) // 2 + 8 :]
    assert np.mean(left) > 0.95
    assert np.mean(right) < np.mean(left)
    trace.show_picture(t, values, 10.0, 10.0, guess=None)
    trace.show_band(None, None)
    assert not trace._guess.isVisible()
    assert not trace._band.isVisible()
    trace.show_picture(t, np.where(t < 9, 1e4, 2.0) + 0.001 * np.sin(9 * t), 10.0, 10.0, look=0.5)
    low, high = trace.getPlotItem().getViewBox().viewRange()[1]
    assert high < 10, "only the last half second sets the range"
    trace.close()


@settings(max_examples=20)
@given(
    count=st.integers(2, 600), begin=st.floats(0.0, 1.0), wide=st.floats(0.1, 50.0), noise=st.booleans(),
    seen=st.floats(0.05, 1.0),
)  # fmt: skip
def test_a_guess_is_seen_to_be_broken_however_dense_and_noisy_it_is(
    count: int, begin: float, wide: float, noise: bool, seen: float
) -> None:
    t = np.linspace(0.0, wide, count)
    values = np.random.default_rng(count).normal(size=count) if noise else np.ones(count)
    guessed = t >= begin * wide
    line, dashes = broken_where(guessed, t, values, wide * seen)
    assert np.array_equal(line[~guessed], values[~guessed])
    if np.isfinite(dashes).any():  # few points: the dashes lie on all of the guess
        assert np.array_equal(np.isfinite(dashes), guessed)
        assert np.array_equal(line, values)
    elif guessed.sum() > 1 and wide * seen / BREAKS < (1 - begin) * wide:
        hidden = np.isnan(line).sum() / guessed.sum()
        assert 0.2 < hidden < 0.8


@pytest.mark.parametrize("smooth", [True, False])
@pytest.mark.parametrize("noise", [0.0, 1.0])
@pytest.mark.parametrize(
    "kind", [TileTrace, LiveTrace]
)  # the one paints pixels, the other in the units of what it shows
def test_a_trace_from_faint_lines_has_as_much_ink_as_one_that_is_outlined(
    kind: type[TileTrace | LiveTrace], smooth: bool, noise: float
) -> None:
    trace = kind("orange", smooth=smooth)
    trace.resize(300, 120)
    trace.show()
    t = np.linspace(0.0, 10.0, 500)
    trace.show_picture(t, np.sin(3 * t) + noise * np.random.default_rng(1).normal(size=500), 10.0, 10.0)
    QTest.qWait(50)
    plain = QImage(trace.size(), QImage.Format.Format_RGB32)
    painter = QPainter(plain)
    if isinstance(trace, TileTrace):
        trace.paint_on(painter, QRectF(0, 0, trace.width(), trace.height()))  # as on paper: the pen itself
    else:
        trace.render(painter)
    painter.end()
    quick, whole = (_ink(each) for each in (trace.grab().toImage(), plain))
    trace.close()
    assert quick.sum() == pytest.approx(whole.sum(), rel=0.35)
    both = np.minimum(quick, whole).sum() / whole.sum()
    assert both > 0.6, "and it lies where that lies"


def _ink(image: QImage) -> np.ndarray:
    rows = range(image.height())
    return np.array([[255 - image.pixelColor(x, y).blue() for x in range(60, image.width())] for y in rows], float)


NUMBERS = st.floats(-1e3, 1e3).filter(lambda x: abs(x) > 1e-3)


@given(NUMBERS, NUMBERS, st.lists(st.floats(1.0, 1e4), min_size=1, max_size=20))
def test_a_formula_is_the_working_at_each_reading_with_first_order_uncertainty(
    a: float, b: float, raw: list[float]
) -> None:
    made = Formula([f"y = {abs(a):.6f} V * reading", f"z = y ^ 2 / {abs(b):.6f} V"], "", "V")
    from common_bench.model.block import Source

    noise = Source("noise", False)
    x = np.array(raw)
    found = made.of(Series(np.zeros(len(x)), x, "", {noise: np.full(len(x), 0.5)}))
    ka, kb = float(f"{abs(a):.6f}"), float(f"{abs(b):.6f}")
    np.testing.assert_allclose(found.values, (ka * x) ** 2 / kb, rtol=1e-12)
    np.testing.assert_allclose(found.parts[noise], 2 * ka**2 * x / kb * 0.5, rtol=1e-9)
    assert found.unit == "V"


def test_one_constant_used_in_two_steps_is_two_sources_and_x_less_x_is_none() -> None:
    twice = Formula(["a = reading + 1.0 ± 0.1", "b = reading + 1.0 ± 0.1", "c = a - b"], "", "")
    found = twice.of(Series(np.zeros(2), np.array([1.0, 2.0])))
    assert found.u.tolist() == pytest.approx([0.1 * 2**0.5] * 2)
    once = Formula(["a = reading + 1.0 ± 0.1", "c = a - a"], "", "")
    assert once.of(Series(np.zeros(2), np.array([1.0, 2.0]))).u.tolist() == [0.0, 0.0]
