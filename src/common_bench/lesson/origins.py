"""How a number came about, walked back step by step: finding, lines, fit or events, quantity, calibration with its points, raw
numbers, lines of text with their places and times."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from common_bench.book.book import Book
from common_bench.book.heard_again import heard
from common_bench.book.journal import HEARD
from common_bench.calibrate.curves import curve_name
from common_bench.model.block import Events, Series
from common_bench.model.calibration import Calibration
from common_bench.model.measured import plain, u_words, written
from common_bench.model.run import Finding
from common_bench.record.replay import Replayed
from common_bench.workup.curves import RunCurve
from common_bench.workup.findings import rests_on

LONGEST_LINE = 400  # bytes of a line of text that are shown
MOST_SHOWN = 3  # events or points in a step


@dataclass(frozen=True)
class OriginStep:
    """One step back. what: its head; words: what is to be said of it; t: s of the run to look at, nan where it is no place."""

    what: str
    words: str
    t: float = math.nan


def origin(book: Book, replayed: Replayed, finding: Finding, curves: dict[str, RunCurve]) -> list[OriginStep]:
    """From a finding back to the lines of text."""
    setting = replayed.run.setting
    value = written(finding.measured.value, finding.measured.u, finding.measured.unit)
    low, high = finding.span
    steps = [OriginStep(f"{finding.name} = {value}", f"{finding.how}; used: {low:.2f} s to {high:.2f} s", low)]
    steps += [
        OriginStep(f"share: {each.name}", f"{u_words(each.u)} {finding.measured.unit}".rstrip())
        for each in finding.made_of
    ]
    for each in setting.left_out if setting is not None else ():
        steps.append(OriginStep("set aside", f"{each.words}: {each.reason}", each.t_from))
    channels: list[str] = []
    for name in (line.name for line in rests_on(replayed.workings, finding.name)):
        steps += _line_steps(replayed, name, finding.span, curves, channels)
    for channel in dict.fromkeys(channels):
        steps += _channel_steps(replayed, channel, setting.calibrations if setting is not None else ())
    steps += _text_steps(book, replayed, finding.span)
    return steps


def reading_at(replayed: Replayed, t: float) -> int | None:
    """The reading nearest to t s of a run; None where it has none."""
    if not len(replayed.t):
        return None
    at = int(np.searchsorted(replayed.t, t))
    near = [each for each in (at - 1, at) if 0 <= each < len(replayed.t)]
    return min(near, key=lambda each: abs(float(replayed.t[each]) - t))


def reading_words(book: Book, replayed: Replayed, t: float, name: str) -> str:
    """What the reading nearest to t s is: its time, value, raw numbers and line of text."""
    row = reading_at(replayed, t)
    if row is None:
        return ""
    told = [f"{replayed.t[row]:.3f} s"]
    series = replayed.results.get(name)
    if isinstance(series, Series) and series.since is None and row < len(series):
        u = float(series.part(row, row + 1).u[0])
        told.append(f"{name} {written(float(series.values[row]), u, series.unit)}")
    told += [f"raw {channel} {plain(float(values[row]), 0 if abs(values[row]) >= 1000 else 3)}" for channel, values in list(replayed.raw.items())[:2] if values[row] == values[row]]  # fmt: skip
    offset = int(replayed.offset[row])
    at, text = line_at(book, replayed, offset)
    told.append(f"byte {offset}, heard at {at:.3f} s: {text}")
    return " · ".join(told)


def line_at(book: Book, replayed: Replayed, offset: int) -> tuple[float, str]:
    """When a line of text came, in s on the engine's clock less where the run began, and what stands in it."""
    data, came = b"", math.nan
    for what, _, chunks in heard(book, replayed.run.session, offset, offset + LONGEST_LINE):
        for chunk in chunks if what == HEARD else ():
            data += chunk.data
            if b"\n" in chunk.data or math.isnan(came):
                came = chunk.at
            if b"\n" in data:
                break
        if b"\n" in data:
            break
    text = data.split(b"\n")[0].rstrip(b"\r")
    return came - replayed.began, text.decode("utf-8", "backslashreplace")


def _line_steps(
    replayed: Replayed, name: str, span: tuple[float, float], curves: dict[str, RunCurve], channels: list[str]
) -> Iterator[OriginStep]:
    line = next(each for each in replayed.workings.lines if each.name == name)
    node = line.read.expression if line.read is not None else None
    result = replayed.results.get(name)
    if name in curves:
        curve = curves[name]
        said = ", ".join(f"{key} = {value}" for key, value in curve.parameters)
        yield OriginStep(line.text, f"a fit of {len(curve.fit.t)} readings: {said}; {'; '.join(curve.words)}", span[0])
    elif isinstance(result, Events):
        inside = result.t[(result.t >= span[0]) & (result.t <= span[1])].tolist()
        first = ", ".join(f"{t:.3f} s" for t in inside[:MOST_SHOWN])
        yield OriginStep(line.text, f"{len(inside)} events in the span: {first}{' …' if len(inside) > MOST_SHOWN else ''}", inside[0] if inside else span[0])  # fmt: skip
    elif isinstance(result, Series):
        what = "values at events" if result.since is not None else "readings"
        inside = result.t[(result.t >= span[0]) & (result.t <= span[1])].tolist()
        yield OriginStep(line.text, f"{len(inside)} {what} in the span, in {result.unit or 'no unit'}", span[0])
    else:
        yield OriginStep(line.text, "one number over the span")
    if node is not None and node.form == "calibrated":
        channels.append(node.word)


def _channel_steps(replayed: Replayed, channel: str, kept: tuple[Calibration, ...]) -> Iterator[OriginStep]:
    own = next((each for each in kept if each.channel == channel), None)
    if own is None:
        yield OriginStep(f"{channel}: not calibrated", "its raw numbers are used as they come")
    else:
        low, high = own.range
        applied = (
            " · applied to this run afterwards" if replayed.run.setting and replayed.run.setting.applied_at else ""
        )
        yield OriginStep(f"calibration of {channel}", f"{curve_name(own.curve)} through {len(own.points)} points, kept {own.made_at[:16].replace('T', ' ')}, raw {low:g} to {high:g}{applied}")  # fmt: skip
        for point in own.points:
            yield OriginStep(f"point {point.label}", f"{written(point.reference, point.u_reference, point.unit)} held, raw {written(point.reading, point.u_reading)} read ({point.n} readings, {point.taken_at[:16].replace('T', ' ')})")  # fmt: skip
    column = (own.heard_as if own is not None else "") or channel
    raw = replayed.raw.get(column)
    if raw is not None and np.isfinite(raw).any():
        yield OriginStep(f"raw numbers of {column}", f"{int(np.isfinite(raw).sum())} of {len(raw)} readings, {np.nanmin(raw):g} to {np.nanmax(raw):g}")  # fmt: skip


def _text_steps(book: Book, replayed: Replayed, span: tuple[float, float]) -> Iterator[OriginStep]:
    rows = [row for t in span if (row := reading_at(replayed, t)) is not None]
    for which, row in zip(("first", "last"), rows, strict=False):
        offset = int(replayed.offset[row])
        at, text = line_at(book, replayed, offset)
        yield OriginStep(f"{which} line of text in the span", f"byte {offset} of session {replayed.run.session}, heard at {at:.3f} s: {text}", float(replayed.t[row]))  # fmt: skip
