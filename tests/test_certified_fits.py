"""Fits held against the certified values of the Statistical Reference Datasets for nonlinear regression (NIST, 1998), which lie in
`nist/` as published: parameters and their standard deviations, from both certified starts and from starts of our own."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

import numpy as np
import pytest

from common_bench.lesson.table_fit import fitted_table
from common_bench.workings.fitting import FoundFit

FILES = Path(__file__).parent / "nist"
GAUSS = "b1*exp(-b2*x) + b3*exp(-(x-b4)^2/b5^2) + b6*exp(-(x-b7)^2/b8^2)"
LANCZOS = "b1*exp(-b2*x) + b3*exp(-b4*x) + b5*exp(-b6*x)"
CUBIC = "(b1+b2*x+b3*x^2+b4*x^3)/(1+b5*x+b6*x^2+b7*x^3)"
FORMULAS = {
    "Bennett5": "b1*(b2+x)^(-1/b3)", "BoxBOD": "b1*(1-exp(-b2*x))", "Chwirut1": "exp(-b1*x)/(b2+b3*x)",
    "Chwirut2": "exp(-b1*x)/(b2+b3*x)", "DanWood": "b1*x^b2", "Eckerle4": "(b1/b2)*exp(-0.5*((x-b3)/b2)^2)",
    "ENSO": "b1 + b2*cos(2*pi*x/12) + b3*sin(2*pi*x/12) + b5*cos(2*pi*x/b4) + b6*sin(2*pi*x/b4) + b8*cos(2*pi*x/b7) + b9*sin(2*pi*x/b7)",
    "Gauss1": GAUSS, "Gauss2": GAUSS, "Gauss3": GAUSS, "Hahn1": CUBIC, "Kirby2": "(b1 + b2*x + b3*x^2)/(1 + b4*x + b5*x^2)",
    "Lanczos1": LANCZOS, "Lanczos2": LANCZOS, "Lanczos3": LANCZOS, "MGH09": "b1*(x^2+x*b2)/(x^2+x*b3+b4)",
    "MGH10": "b1*exp(b2/(x+b3))", "MGH17": "b1+b2*exp(-x*b4)+b3*exp(-x*b5)", "Misra1a": "b1*(1-exp(-b2*x))",
    "Misra1b": "b1*(1-(1+b2*x/2)^(-2))", "Misra1c": "b1*(1-(1+2*b2*x)^(-0.5))", "Misra1d": "b1*b2*x/(1+b2*x)",
    "Nelson": "b1 - b2*x1*exp(-b3*x2)", "Rat42": "b1/(1+exp(b2-b3*x))", "Rat43": "b1/((1+exp(b2-b3*x))^(1/b4))",
    "Roszman1": "b1 - b2*x - atan(b3/(x-b4))/pi", "Thurber": CUBIC,
}  # fmt: skip
ROUNDED = {
    "Lanczos1"
}  # its residuals are as small as what is lost of numbers of 14 digits, and so are their deviations


def of_file(name: str) -> tuple[dict[str, list[float]], np.ndarray]:
    """Parameter -> (start 1, start 2, certified value, its standard deviation); rows of (y, x…)."""
    lines = (FILES / f"{name}.dat").read_text("ascii").splitlines()
    told = [re.match(r"\s*(b\d+)\s*=\s*(\S+)\s+(\S+)\s+(\S+)\s+(\S+)", line) for line in lines]
    first = max(at for at, line in enumerate(lines) if line.startswith("Data:"))
    rows = np.array([[float(word) for word in line.split()] for line in lines[first + 1 :] if line.strip()])
    if name == "Nelson":
        rows[:, 0] = np.log(rows[:, 0])  # as its model says
    return {found[1]: [float(word) for word in found.groups()[1:]] for found in told if found}, rows


def fit(name: str, rows: np.ndarray, folder: Path, start: Mapping[str, float] | None) -> FoundFit:
    heads = ["y", "x"] if rows.shape[1] == 2 else ["y", "x1", "x2"]
    table = folder / f"{name}.csv"
    lines = [",".join(heads), *(",".join(repr(float(value)) for value in row) for row in rows)]
    table.write_text("\n".join(lines) + "\n", "ascii")
    return fitted_table(table, f"y = {FORMULAS[name]}", start=start)


def test_every_set_whose_formula_can_be_said_is_here() -> None:
    assert {path.stem for path in FILES.glob("*.dat")} == set(FORMULAS)


@pytest.mark.parametrize(
    "name", [pytest.param(each, marks=[pytest.mark.long_proof] * (each == "ENSO")) for each in sorted(FORMULAS)]
)
def test_certified_values_and_deviations_are_met_from_both_starts(name: str, tmp_path: Path) -> None:
    certified, rows = of_file(name)
    for which in (0, 1):
        found = fit(name, rows, tmp_path, {key: values[which] for key, values in certified.items()})
        for key, (_, _, value, deviation) in certified.items():
            assert found.values[key] == pytest.approx(value, rel=1e-6), (name, which, key)
            if name not in ROUNDED:
                assert found.usual[key] == pytest.approx(deviation, rel=1e-6), (name, which, key)


LONG = {"Gauss1", "Gauss2", "Gauss3", "Bennett5", "ENSO", "Thurber", "Lanczos1", "Lanczos2", "Lanczos3", "Hahn1"}


@pytest.mark.parametrize(
    "name",
    [pytest.param(each, marks=[pytest.mark.long_proof] * (each in LONG)) for each in sorted(FORMULAS)],
)
def test_starts_of_our_own_lead_to_the_certified_minimum(name: str, tmp_path: Path) -> None:
    certified, rows = of_file(name)
    found = fit(name, rows, tmp_path, None)
    text = (FILES / f"{name}.dat").read_text("ascii")
    squares = float(re.search(r"Residual Sum of Squares:\s*(\S+)", text)[1])
    assert found.sd**2 * found.dof == pytest.approx(squares, rel=1e-6, abs=1e-20), name
    if name == "ENSO":
        return  # sines of months: other signs and phases give the same curve
    ordered = sorted(abs(value) for value in found.values.values())  # equal terms of a sum may have changed places
    assert ordered == pytest.approx(sorted(abs(each[2]) for each in certified.values()), rel=1e-4), name
