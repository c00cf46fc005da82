"""A small picture of what a form does: its example worked out on a few seconds of made-up readings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cache
from typing import NamedTuple

import numpy as np

from common_bench.model.block import NO_FLOATS, Block, Events, Floats, Series
from common_bench.model.trouble import Trouble
from common_bench.workings.evaluate import Evaluator, Working, check
from common_bench.workings.over import over_span
from common_bench.workings.reading import Node
from common_bench.workings.table import FORMS

SECONDS, SPACING = 6.0, 0.02
CHANNELS = {"load": "N", "way": "m", "bath": "°C", "beam": ""}
QUANTITIES = (
    "force = calibrated load", "height = calibrated way", "temp = calibrated bath", "gate = calibrated beam", "current = force * 1 A / 1 N",
    "ax = force", "ay = 2 N - force", "az = height * 1 N / 1 m", "let_go = rises of height through 0.5 m",
    "landed = falls of height through 0.1 m", "pass = peaks in force above 2.2 N, 0.4 s apart",
)  # fmt: skip


class FormPicture(NamedTuple):
    """t, before: (n,) the readings of what the form is about; after: (n,) what it makes of them, scaled to the same height, empty
    where it makes none; marks: s, when its events are; level: where a single number lies among the readings, nan where it
    does not."""

    t: Floats
    before: Floats
    after: Floats
    marks: Floats
    level: float


@cache
def picture_of(name_of_form: str) -> FormPicture | None:
    """Of a form of the table; None where its example gives nothing that can be drawn."""
    form = FORMS[name_of_form]
    t = np.arange(0, SECONDS, SPACING)
    noise = 0.06 * np.sin(39.0 * t) * np.sin(25.1 * t + 1) + 0.04 * np.sin(61.0 * t + 2)
    force = 2 + np.exp(-t / 9) * np.sin(2 * np.pi * 0.62 * t) + noise
    height = 0.5 + 0.6 * np.sin(2 * np.pi * 0.55 * t + 0.3)
    if form.name == "middle":
        height = height + np.where(np.arange(len(t)) % 37 == 20, 0.9, 0.0)
    channels = {
        "load": force,
        "way": height,
        "bath": 20 + 2 * np.log1p(t) + 3 * noise,
        "beam": (height > 0.7).astype(float),
    }
    name = form.example.partition("=")[0].strip()
    lines = [each for each in QUANTITIES if each.partition(" =")[0] != name]
    workings = check([*lines, form.example], CHANNELS)
    given = {channel: Series(t, channels[channel], unit) for channel, unit in CHANNELS.items()}
    block = Block(t, t, t, np.arange(len(t)), np.zeros(len(t), bool), channels, np.zeros(len(t)), 1e-3)
    results = Evaluator(workings).push(block, given)
    line = workings.lines[-1]
    if line.read is None or line.kind is None:
        return None
    before = _about(line.read.expression, results, workings.lines)
    if before is None:
        return None
    after, marks, level = NO_FLOATS, NO_FLOATS, float("nan")
    found = results.get(name)
    if isinstance(found, Events):
        marks = found.t
    elif isinstance(found, Series):
        after = np.full(len(t), np.nan)
        after[np.searchsorted(t, found.t - SPACING / 4)[: len(t)].clip(0, len(t) - 1)] = found.values
        marks = found.t if found.since is not None else NO_FLOATS
    else:
        try:
            number = over_span(workings, results, (0.0, SECONDS))[name]
        except Trouble:
            return None
        inner = [each for each in results if each.startswith(f"{name}@")]
        events = results[inner[0]] if inner else None
        marks = events.t[:1] if isinstance(events, Events) else _events(line.read.expression, results)
        level = (
            number.value if form.name in ("mean", "median", "largest", "smallest", "first", "last") else float("nan")
        )
    return FormPicture(t, before, after, marks, level)


def _events(node: Node, results: Mapping[str, Series | Events]) -> Floats:
    found = results.get(node.operands[0].word)
    return found.t if isinstance(found, Events) else NO_FLOATS


def _about(node: Node, results: Mapping[str, Series | Events], lines: Sequence[Working]) -> Floats | None:
    """The readings that an expression is about, through the events that it may name."""
    for operand in node.operands:
        found = results.get(operand.word)
        if isinstance(found, Series) and found.since is None:
            return found.values
        made = next(
            (each.read.expression for each in lines if each.name == operand.word and each.read is not None), None
        )
        inner = _about(made, results, lines) if made is not None else _about(operand, results, lines)
        if inner is not None:
            return inner
    return None
