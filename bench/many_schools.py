"""Simulated findings of many schools in a dataset: how long and how much memory their class lines take, and how that grows."""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow as pa
from pyarrow import parquet

from common_bench.model.plan import ClassGraph, Condition, Plan, SensorPlan
from common_bench.model.plan_file import plan_to_text
from common_bench.pool.department import plan_id
from common_bench.pool.many_schools import PLAN, SCHEMA, many_schools

Told = Callable[[str, str, str, bool], None]
CLASSES, GROUPS, RUNS = 20, 8, 60  # of a school, of a class, of a group
G = 9.81


def simulated(folder: Path, schools: int) -> int:
    """A dataset of so many schools; gives how many findings it has."""
    plan = Plan(
        "Bottles", sensors=(SensorPlan("load", "tension", unit="N"),),
        workings=("pass = peaks in tension above 2 N, 0.4 s apart", "period = 2 * mean of gap between pass"),
        findings=("period",), conditions=(Condition("length", "m"),),
        graph=ClassGraph("period^2", "length", "g = 4 * pi^2 / slope", "9.81 m/s²"),
    )  # fmt: skip
    text = plan_to_text(plan)
    top = folder / f"plan={plan_id(text)}"
    top.mkdir(parents=True)
    (top / PLAN).write_text(text)
    each = CLASSES * GROUPS * RUNS
    lengths = np.repeat(np.tile(np.linspace(0.5, 1.4, GROUPS), CLASSES), RUNS)
    dice = np.random.default_rng(1)
    for school in range(schools):
        g = G + 0.03 * dice.normal() + np.repeat(0.05 * dice.normal(size=CLASSES), GROUPS * RUNS)
        y = (
            4 * np.pi**2 * lengths / g
            + np.repeat(0.01 * dice.normal(size=CLASSES * GROUPS), RUNS)
            + 0.01 * dice.normal(size=each)
        )
        at = np.arange(each)
        columns = {
            "run": [f"{school}-{k}" for k in at], "class_id": [f"c{k}" for k in at // (GROUPS * RUNS)],
            "group": [f"g{k}" for k in at // RUNS % GROUPS], "number": at % RUNS, "sent_at": ["2026-11-01"] * each, "aside": [""] * each,
            "place": [f"{x:.9g}" for x in lengths], "x": lengths, "u_x": np.full(each, 0.002), "y": y, "u_y": np.full(each, 0.008), "shared_y": np.zeros(each),
        }  # fmt: skip
        place = top / f"school=s{school}"
        place.mkdir()
        parquet.write_table(pa.table(columns, SCHEMA), place / "a.parquet", compression="zstd")
    return schools * each


def school_lines(told: Told) -> None:
    before = 0.0
    for schools in (10, 100, 1000):
        with tempfile.TemporaryDirectory() as name:
            count = simulated(Path(name), schools)
            for engine in ("duckdb", "dask"):
                code = f"import time; began = time.perf_counter(); from many_schools import one; one({name!r}, {engine!r}, began)"
                done = subprocess.run([sys.executable, "-c", code], cwd=Path(__file__).parent, capture_output=True, text=True, check=True)  # fmt: skip
                seconds, memory, value = (float(each) for each in done.stdout.split())
                grown = f", {seconds / before:.1f} × the time of a tenth" if before and engine == "duckdb" else ""
                told(f"{count:.0e} findings, {schools * CLASSES} classes, {engine}", f"{seconds:.1f} s, {memory:.0f} MB{grown}", "(shown)", abs(value - G) < 0.05)  # fmt: skip
                before = seconds if engine == "duckdb" else before


def one(folder: str, engine: str, began: float) -> None:
    """In a process of its own."""
    found = many_schools(Path(folder), "Bottles", engine)  # type: ignore[arg-type]
    assert found.finding is not None
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e3
    print(time.perf_counter() - began, memory, found.finding.value)
