"""The curve of one bench with its points, band and residuals, where the sensor is now, and its history."""

from __future__ import annotations

import numpy as np

from common_bench.calibrate.applied import Applied
from common_bench.desk.graphs.plots import Graph
from common_bench.desk.look.sheet import palette
from common_bench.lesson.calibrating import KeptCalibration
from common_bench.lesson.calibration_quality import age_words
from common_bench.model.calibration import ReferencePoint
from common_bench.model.measured import digits, first_place, plain, written
from common_bench.model.plan import SensorPlan

AGES = ((86400.0, "days"), (3600.0, "hours"), (60.0, "minutes"))
MARGIN = 0.14  # of the range, shown beyond the points so that it can be seen what a guess is
BAND = 2.0  # standard uncertainties: about 95 of 100


class CurveGraph(Graph):
    """Quantity over raw reading: dashed and with a growing band where it is a guess."""

    def __init__(self) -> None:
        super().__init__()
        self._line = self._words = None
        self._ready: Applied | None = None
        self._sensor: SensorPlan | None = None
        self.within = (0.0, 1.0)

    def show_curve(
        self, sensor: SensorPlan, points: list[ReferencePoint], ready: Applied | None, colour: str, symbol: str
    ) -> None:
        self.wipe()
        self._ready, self._sensor = ready, sensor
        unit = f" ({sensor.unit})" if sensor.unit else ""
        self.name_axes(f"{sensor.quantity}{unit}", "reading (raw)")
        at = [p.reading for p in points]
        low, high = (min(at), max(at)) if at else (0.0, 1.0)
        margin = MARGIN * (high - low or abs(high) or 1.0)
        self.within = (low - margin, high + margin)
        shown = [np.array([p.reference for p in points])]
        if ready is not None:
            held = [p.reading for p in ready.calibration.points if not p.check] or [low, high]
            wide = np.linspace(*self.within, 160)
            inside = np.linspace(min(held), max(held), 120)
            values, u = ready.value(wide), ready.u(wide)
            known = np.isfinite(values) & np.isfinite(u)
            self.band(wide[known], (values - BAND * u)[known], (values + BAND * u)[known], colour, 45)
            self.line(wide, values, colour, 1.2, dashed=True)
            self.line(inside, ready.value(inside), colour, 2.2)
            shown.append(values[known])
        y = np.array([p.reference for p in points])
        self.errors(
            np.array(at), y, np.array([p.u_reading for p in points]), np.array([p.u_reference for p in points]), colour
        )
        rising = ready is None or ready.value(np.array([low]))[0] <= ready.value(np.array([high]))[0]
        for point in points:
            self.points([point.reading], [point.reference], symbol, colour, faint=point.check)
            words = f"  {point.label}" + (" (check)" if point.check else "")
            right = point.reading > low + 0.7 * (high - low)
            anchor = ((1, 1) if rising else (1, 0)) if right else ((0, 0) if rising else (0, 1))
            self.note(words + "  ", point.reading, point.reference, palette().soft, anchor=anchor)
        self.setXRange(*self.within, padding=0)
        self.frame_values(*shown, room=0.1)
        self._line = self.upright(0.0, palette().copper)
        self._words = self.note("", 0.0, 0.0, palette().copper, anchor=(0, 0), size=13)

    def show_now(self, raw: float | None) -> None:
        """Where the sensor is at this moment; None where it is not heard."""
        if self._line is None:
            return
        for each in (self._line, self._words):
            each.setVisible(raw is not None)
        if raw is None:
            return
        self._line.setValue(raw)
        small = max(2, 2 + first_place(abs(raw))) if raw else 2
        words = f" now {plain(raw, 0 if abs(raw) >= 100 else small)} "
        if self._ready is not None:
            value, u = (float(each(np.array([raw]))[0]) for each in (self._ready.value, self._ready.u))
            guess = "a guess: " if bool(self._ready.outside(np.array([raw]))[0]) else ""
            words += f"\n {guess}≈ {digits(value, u)} {self._sensor.unit} "
        self._words.setText(words)
        low, high = self.within
        if not low <= raw <= high:
            low, high = min(low, raw), max(high, raw)
            self.setXRange(low, high, padding=0.02)
            self.within = (low, high)
        (left, right), (bottom, top) = self.getPlotItem().getViewBox().viewRange()
        in_right_half = raw > (left + right) / 2
        falls = (
            self._ready is not None and self._ready.value(np.array([left]))[0] > self._ready.value(np.array([right]))[0]
        )
        at_top = in_right_half == falls
        self._words.setAnchor((1 if in_right_half else 0, 0 if at_top else 1))
        self._words.setPos(raw, top if at_top else bottom)


class ResidualGraph(Graph):
    """Reference minus curve at each point with its expected size; or the kit's kept calibrations over time."""

    def show_residuals(
        self, points: list[ReferencePoint], ready: Applied, colour: str, symbol: str, curve: CurveGraph
    ) -> str:
        """Gives the words beside the heading."""
        self.wipe()
        unit = ready.calibration.unit
        self.name_axes(unit, "")
        self.level(0.0, palette().hairline)
        x = np.array([p.reading for p in points])
        residuals = np.array([ready.residual(p) for p in points])
        expected = np.array([ready.u_point(p) for p in points])
        reach = np.abs(residuals) + BAND * expected
        known = np.isfinite(reach)
        self.errors(x[known], residuals[known], np.zeros_like(x[known]), BAND * expected[known], colour)
        for point, off in ((p, r) for p, r, there in zip(points, residuals, known, strict=True) if there):
            self.points([point.reading], [off], symbol, colour, faint=point.check)
        self.setXLink(curve)
        top = float(np.max(reach[np.isfinite(reach)], initial=0.0)) * 1.15 or 1.0
        self.setYRange(-top, top, padding=0)
        used = [
            (abs(off), p, u)
            for off, p, u, there in zip(residuals, points, expected, known, strict=True)
            if there and not p.check
        ]
        if not used:
            return ""
        worst = max(used, key=lambda each: each[0])
        usual = float(np.sqrt(np.mean([u**2 for _, _, u in used]))) or worst[0] or 1.0
        decimals = min(6, max(0, first_place(usual) + 1))
        largest = f"largest {plain(worst[0], decimals)} at {worst[1].label}" if worst[0] > 0 else "none"
        return f"{largest}, expected {plain(usual, decimals)} {unit}"

    def show_history(self, kept: list[KeptCalibration], unit: str, colour: str, symbol: str) -> str:
        self.wipe()
        self.setXLink(None)
        if not kept:
            return "nothing kept yet · residuals: G"
        seconds = np.array([(each.made_at - kept[-1].made_at).total_seconds() for each in kept])
        length, name = next(((size, name) for size, name in AGES if abs(seconds).max() >= 2 * size), AGES[-1])
        days = seconds / length
        self.name_axes(unit, f"{name}, the newest at 0")
        off, u = np.array([each.off for each in kept]), np.array([each.u for each in kept])
        self.level(0.0, palette().hairline)
        self.errors(days, off, np.zeros_like(days), BAND * u, colour)
        self.points(days, off, symbol, colour)
        if len(kept) > 1:
            self.line(days, off, colour, 1.0, dashed=True)
        for day, each in zip(days, kept, strict=True):
            self.note(
                f" {age_words(each.ready.calibration.made_at)}", float(day), each.off, palette().soft, anchor=(0, 1)
            )
        span = float(np.ptp(days)) or 1.0
        self.setXRange(float(days.min()) - 0.08 * span, float(days.max()) + 0.2 * span, padding=0)
        self.frame_values(off - BAND * u, off + BAND * u)
        first = kept[0]
        moved = written(-first.off, float(np.hypot(first.u, kept[-1].u)), unit)
        drift = f"moved by {moved} since the first" if len(kept) > 1 else "the first one kept"
        return f"{drift} · residuals: G"
