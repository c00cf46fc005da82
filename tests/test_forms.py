"""Every form of the table: the same for every way of cutting the readings, never an exception, and as an independent slow
reference has it. The table is walked, so that a new form is tested by being in it."""

from __future__ import annotations

import itertools
import random
import re

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from common_bench.model.block import Block, Events, Series, Source
from common_bench.model.trouble import FindingTrouble
from common_bench.workings.evaluate import Evaluator, Workings, check, gathered
from common_bench.workings.forms import Form
from common_bench.workings.over import over_span
from common_bench.workings.reading import read_working
from common_bench.workings.table import FORMS

CHANNELS = {"load": "N", "way": "m", "temp": "°C", "gate": ""}
NAMED = [
    "force = calibrated load", "height = calibrated way", "temp = calibrated temp", "gate = calibrated gate",
    "current = force * 1 A / 1 N", "ax = force * 2", "ay = 3 N - force", "az = force / 2",
    "let_go = rises of height through 0.5 m", "landed = falls of height through 0.1 m",
    "pass = peaks in force above 2.2 N, 0.4 s apart",
]  # fmt: skip
NOISE, SCALE = Source("noise of single readings", False), Source("calibration of load", True)


def readings(seconds: float, seed: int, rate: float = 50.0) -> Block:
    """Four columns; `temp` comes in lines of its own, every tenth reading."""
    dice = np.random.default_rng(seed)
    t = np.arange(0, seconds, 1 / rate) + dice.uniform(0, 0.2 / rate, round(seconds * rate))
    load = 2 + np.sin(2 * np.pi * 0.9 * t) + dice.normal(0, 0.01, len(t))
    way = 0.5 + 0.6 * np.sin(2 * np.pi * 0.6 * t + 1)
    temp = 20 + 0.5 * t + dice.normal(0, 0.02, len(t))
    own = np.arange(len(t)) % 10 == 9
    channels = {
        "load": np.where(own, np.nan, load), "way": np.where(own, np.nan, way), "temp": np.where(own, temp, np.nan),
        "gate": np.where(own, np.nan, (way > 0.8).astype(float)),
    }  # fmt: skip
    return Block(t, t, t, np.arange(len(t)), np.zeros(len(t), bool), channels, np.full(len(t), 1e-5), 1e-3)


def broken(block: Block, gaps: list[int], missing: list[int]) -> Block:
    gap, channels = block.gap_before.copy(), {name: each.copy() for name, each in block.channels.items()}
    t = block.t.copy()
    for at in gaps:
        if 0 < at < len(block):
            gap[at] = True
            t[at:] += 1.3
    for at in missing:
        for name in ("load", "way"):
            channels[name][at : at + 7] = np.nan
    return Block(t, t, t, block.offset, gap, channels, block.clock_u, block.clock_step)


def calibrated(block: Block) -> dict[str, Series]:
    units = {"load": "N", "way": "m", "temp": "°C", "gate": ""}
    n = len(block)
    return {
        name: Series(
            block.t, block.channels[name], unit, {NOISE: np.full(n, 0.01), SCALE: 1e-3 * np.nan_to_num(block.channels[name])}
        )
        for name, unit in units.items()
    }  # fmt: skip


def worked(lines: list[str], block: Block, cuts: list[int] = ()) -> tuple[Workings, dict]:  # type: ignore[assignment]
    workings = check(lines, CHANNELS, {"way_raw": ""})
    assert not workings.troubles, [(trouble.where, trouble.sentence) for trouble in workings.troubles]
    evaluator = Evaluator(workings)
    borders = sorted({0, len(block), *(cut for cut in cuts if 0 < cut < len(block))})
    pieces = []
    for low, high in itertools.pairwise(borders):
        part = block.part(low, high)
        pieces.append(evaluator.push(part, calibrated(part)))
    return workings, gathered(pieces)


EXAMPLES = [form.example for form in FORMS.values()]
NAMES_TAKEN = {line.split(" =")[0] for line in NAMED}
LINES = [*NAMED, *(each for each in EXAMPLES if each.split(" =")[0] not in NAMES_TAKEN)]


def test_each_form_has_an_example_that_can_be_read_and_is_that_form() -> None:
    for form in FORMS.values():
        assert read_working(form.example).expression.form == form.name
        assert form.says.endswith(".")
        assert set(form.slots) == set(form.takes)


def same(one: Series | Events, other: Series | Events) -> None:
    np.testing.assert_array_equal(one.t, other.t)
    known = np.isfinite(one.values) if isinstance(one, Series) else np.ones(len(one), bool)
    for source in {**one.parts, **other.parts}:
        zero = np.zeros(len(one))
        shares = [each.parts.get(source, zero)[known] for each in (one, other)]
        np.testing.assert_array_equal(*shares, err_msg=str(source))
    if isinstance(one, Series):
        np.testing.assert_array_equal(one.values, other.values)
    else:
        np.testing.assert_array_equal(one.fresh, other.fresh)


@settings(max_examples=5)
@given(
    st.lists(st.integers(1, 599), max_size=30), st.integers(0, 30), st.lists(st.integers(1, 599), max_size=2),
    st.lists(st.integers(0, 590), max_size=3),
)  # fmt: skip
def test_every_form_gives_the_same_bits_for_every_way_of_cutting(
    cuts: list[int], seed: int, gaps: list[int], missing: list[int]
) -> None:
    block = broken(readings(12.0, seed), gaps, missing)
    more = [
        "warm = if temp > 22 °C and not height < 0.2 m then 1 else 0", "meets = force * (temp - 20 °C)",
        "steady = height - smooth height over 0.5 s", "twice = rate of (rate of height over 0.2 s) over 0.2 s",
        "mixed = before + record * 2 + change in force", "stayed = time within landed", "heights = height at (rises of force through 2 N)",
        "fit = height fitted by p * exp(-time / q) + r, from each let_go for 0.6 s", "q_ = q of fit", "bent = force fitted by a * time + b, from each landed for 0.3 s", "a_ = a of bent",
    ]  # fmt: skip
    _, whole = worked([*LINES, *more], block)
    _, pieces = worked([*LINES, *more], block, cuts)
    assert whole.keys() == pieces.keys()
    for name, one in whole.items():
        same(one, pieces[name])


# random workings: whatever the checker lets through is worked out without an exception

NUMBERS = {"time": ["0.2 s", "50 ms", "3 s", "0 s"], "level": ["0.4", "1", "2.2", "2 N"], "depth": ["0.1", "0.1 N"], "number of readings": ["1", "4", "5"]}  # fmt: skip
FORMULAS = [
    "p * exp(-time / q) + r",
    "p + q * time",
    "p * rise + q",
    "p * sin(q * time + r)",
    "p / (1 + (rise / q)^2)",
    "p + rise",
]
ENDS = ["", "", ", q held at 1.5", ", from each let_go for 0.5 s", " over rise > 0.4"]
PURE = ["pull = force / 1 N", "rise = height / 1 m", "warm = (temp - 20 °C) / 1 K"]


def drawn(dice: random.Random, depth: int, wanted: str = "") -> str:
    """An expression of the kind that is wanted, mostly; it may or may not be allowed."""
    if wanted in NUMBERS:
        return dice.choice(NUMBERS[wanted])
    if wanted == "condition" and dice.random() < 0.95:
        return f"{drawn(dice, depth - 1, 'series')} {dice.choice(['<', '>=', '=', '≠'])} {drawn(dice, depth - 1, 'series')}"
    groups = {"events": ("events",), "": ("over a span", "on events", "over time")}.get(wanted, ("over time",))
    if wanted == "values":
        groups = ("over time", "on events")
    if depth <= 0 or dice.random() < 0.15:
        events, series = (
            ["pass", "let_go", "landed"],
            ["pull", "rise", "warm", "gate", "time / 1 s", "1", "0", "2 ± 0.1", "force"],
        )
        return dice.choice(events if (wanted == "events") != (dice.random() < 0.03) else series)
    if wanted != "events" and dice.random() < 0.5:
        one, other = drawn(dice, depth - 1, wanted), drawn(dice, depth - 1, wanted)
        return dice.choice(
            [
                f"({one} {dice.choice('+-*/')} {other})",
                f"{dice.choice(['sqrt', 'sin', 'exp', 'ln', 'abs', 'atan', 'asin'])}({one})",
                f"(if {drawn(dice, 1, 'condition')} or {drawn(dice, 1, 'condition')} then {one} else {other})",
                f"({one} ^ {dice.choice(['2', '-1', '0.5', '2'])})",
            ]
        )
    form: Form = dice.choice([each for each in FORMS.values() if each.group in groups])
    return f"({written(dice, form, depth)})"


def written(dice: random.Random, form: Form, depth: int) -> str:
    text = form.written
    while "[" in text:
        kept = dice.random() < 0.5
        start, stop = text.index("["), text.index("]")
        text = text[:start] + (text[start + 1 : stop] if kept else "") + text[stop + 1 :]
    text = re.sub(r"(\w+)\|(\w+)", lambda found: dice.choice(found.groups()), text)
    for slot in form.slots:
        wanted = form.takes[slot]
        for mark in ("", ".", "+", "?", "="):
            place = f"{{{slot}{mark}}}"
            if place in text:
                inner = drawn(dice, depth - 1, wanted)
                text = text.replace(place, inner if wanted in NUMBERS else f"({inner})")
    return text


@settings(max_examples=25)
@given(st.integers(0, 10**9), st.lists(st.integers(1, 299), max_size=6), st.sampled_from([0, 1, 2, 40, 300]))
def test_what_the_checker_lets_through_never_fails(seed: int, cuts: list[int], length: int) -> None:
    dice = random.Random(seed)
    lines = [*NAMED, *PURE, *(f"w{k} = {drawn(dice, 3)}" for k in range(20))]
    lines += [
        f"{name} = {drawn(dice, 1, 'series')} fitted by {dice.choice(FORMULAS)}{dice.choice(ENDS)}"
        for name in ("f1", "f2")
    ]
    lines += ["g1 = p of f1", "g2 = q of f2"]
    lines = [each for each in lines if len(each) < 500]
    workings = check(lines, CHANNELS)
    kept = [line.text for line in workings.lines if not line.trouble]
    block = broken(readings(6.0, seed % 7), [seed % 290], [seed % 211]).part(0, length)
    found, results = worked(kept, block, cuts)
    _, again = worked(kept, block)
    for name, one in results.items():
        same(one, again[name])
    for span in ((0.0, 6.0), (1.0, 1.01), (0.5, 3.0)):
        for line in found.lines:
            if line.kind is not None and line.kind.shape == "number":
                try:
                    numbers = over_span(found, results, span)
                except FindingTrouble:
                    break
                assert set(numbers) == {each.name for each in found.lines if each.kind and each.kind.shape == "number"}


def test_random_workings_are_let_through_often_enough_to_mean_something() -> None:
    dice, let_through, forms = random.Random(5), 0, set()
    for _ in range(1500):
        (line,) = check([*NAMED, *PURE, f"w = {drawn(dice, 3)}"], CHANNELS).lines[-1:]
        if not line.trouble and line.read is not None:
            let_through += 1
            stack = [line.read.expression]
            while stack:
                node = stack.pop()
                forms.add(node.form)
                stack += node.operands
    assert let_through > 300
    assert forms >= set(FORMS) - {"slope"}


@pytest.mark.parametrize("text", ["x = " + "(" * 25 + "1" + ")" * 25, "x = rate of force over 61 s", "x = middle of force over 1000 readings"])  # fmt: skip
def test_what_costs_too_much_is_refused_with_the_limit(text: str) -> None:
    line = check([*NAMED, text], CHANNELS).lines[-1]
    if line.trouble is not None:
        assert any(character.isdigit() for character in line.trouble.sentence)
