"""Random workings of single values with units, beside the units library's own arithmetic; random and mutated text through
parser and checker."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pint.errors import PintError

from common_bench.model.kept_units import units_registry
from common_bench.model.measured import Measured
from common_bench.model.trouble import WorkingTrouble
from common_bench.model.units import registry, same_kind, unit
from common_bench.workings.evaluate import check
from common_bench.workings.over import number_from
from common_bench.workings.ready import ready_ones
from common_bench.workings.table import FORMS

UNITS = ["N", "m", "cm", "s", "ms", "kg", "g", "V", "mA", "ohm", "J", "kJ", "Pa", "kPa", "hPa", "Hz", "m/s", "km", "W", "K", "%", "", "µF", "mmHg", "lx"]  # fmt: skip


def tree(dice: random.Random, depth: int) -> tuple[str, object]:
    """A working's text and the library's quantity."""
    if depth == 0 or dice.random() < 0.2:
        value, text = round(dice.uniform(0.5, 9), 3), dice.choice(UNITS)
        return f"{value} {text}".strip(), registry().Quantity(value, unit(text))
    one, its = tree(dice, depth - 1)
    kind = dice.randrange(6)
    if kind == 4:
        by = dice.choice([2, 3, -1, 0.5])
        return f"({one}) ^ {by}" if by >= 0 else f"({one}) ^ (-1)", its**by  # type: ignore[operator]
    if kind == 5:
        return f"abs(-({one}))", its
    other, quantity = tree(dice, depth - 1)
    sign = "+-*/"[kind]
    worked = {"+": lambda: its + quantity, "-": lambda: its - quantity, "*": lambda: its * quantity, "/": lambda: its / quantity}  # type: ignore[operator]  # fmt: skip
    return f"({one}) {sign} ({other})", worked[sign]()


def worked(text: str) -> Measured | None:
    """None where powers or numbers are beyond what is worked with."""
    try:
        return number_from(text, {})
    except WorkingTrouble as trouble:
        if trouble.code in ("unit-too-high", "number-too-large", "exponent-not-constant", "conversion-too-large"):
            return None
        raise


@given(st.integers(0, 10**9))
def test_units_and_values_are_those_of_the_units_library(seed: int) -> None:
    dice = random.Random(seed)
    for _ in range(10):
        try:
            text, expected = tree(dice, 3)
        except (PintError, ArithmeticError, ValueError, TypeError):
            continue
        found = worked(text)
        if found is None:
            continue
        wanted = registry().Quantity(found.value, unit(found.unit)).to(expected.units)  # type: ignore[attr-defined]
        assert wanted.magnitude == pytest.approx(expected.magnitude, rel=1e-9, abs=1e-12), text  # type: ignore[attr-defined]


def test_what_the_library_refuses_is_refused() -> None:
    dice, refused = random.Random(3), 0
    for _ in range(400):
        a, b = dice.choice(UNITS), dice.choice(UNITS)
        if not same_kind(a, b):
            refused += 1
            with pytest.raises(WorkingTrouble):
                number_from(f"(2 {a}) + (3 {b})", {})
    assert refused > 200


PIECES = [each for form in FORMS.values() for each in form.example.split()] + [each for ready in ready_ones() for line in ready.lines for each in line.split()]  # fmt: skip
ODD = ["(", ")", "^", "±", "3e999", "°", "²", "\u202e", "𝐱", "_", "__import__", "1e-400", '"', "“", ",", "=", "#", "0" * 60, "m^999", "is", "∞", "\x00", "’"]  # fmt: skip


@settings(max_examples=30)
@given(st.integers(0, 10**9))
def test_random_and_mutated_text_gives_workings_or_troubles_of_our_own(seed: int) -> None:
    dice = random.Random(seed)
    lines = []
    for _ in range(12):
        words = [dice.choice(PIECES if dice.random() < 0.85 else ODD) for _ in range(dice.randrange(1, 14))]
        text = " ".join(words) if dice.random() < 0.5 else "x" + str(dice.randrange(9)) + " = " + " ".join(words)
        letters = list(text)
        for _ in range(dice.randrange(4)):
            if letters:
                at = dice.randrange(len(letters))
                letters[at : at + dice.randrange(3)] = dice.choice([*ODD, "", " "])
        lines.append("".join(letters))
    for line in check(["force = calibrated load", *lines], {"load": "N", "way": "m"}).lines:
        assert line.kind is not None or line.trouble is not None
        if line.trouble is not None:
            assert line.trouble.sentence
            assert 0 <= line.trouble.start <= line.trouble.end <= max(2, len(line.text) + 1)


def test_units_are_kept_from_one_start_to_the_next_and_made_anew_where_what_was_kept_is_damaged(tmp_path: Path) -> None:
    def means_what_it_should(found: Any) -> bool:
        return bool(abs(found.Quantity(36, "km/h").to("m/s").magnitude - 10) < 1e-12)

    assert means_what_it_should(units_registry(tmp_path / "cache"))
    (kept,) = (tmp_path / "cache").iterdir()
    whole = {each.name: each.read_bytes() for each in kept.iterdir()}
    assert means_what_it_should(units_registry(tmp_path / "cache"))
    for name in whole:
        (kept / name).write_bytes(whole[name][:40])
    assert means_what_it_should(units_registry(tmp_path / "cache"))
    assert {each.name for each in kept.iterdir()} == set(whole)
    assert all(len((kept / name).read_bytes()) > 40 for name in whole)
    (tmp_path / "file").write_text("no folder")
    assert means_what_it_should(units_registry(tmp_path / "file" / "cache"))
