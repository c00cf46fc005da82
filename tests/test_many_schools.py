"""Many schools in one dataset: two engines go through it and find the same as our own code does from single runs."""

from __future__ import annotations

import dataclasses
import json
import math
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
from pyarrow import parquet

from common_bench.cli.running import main
from common_bench.lesson.sharing import keep_package
from common_bench.model.measured import Measured
from common_bench.model.plan import ClassGraph, Condition, Plan, SensorPlan
from common_bench.model.plan_file import plan_to_text
from common_bench.model.shared_pool import SharedNumber, SharedPool, SharedRun
from common_bench.model.trouble import FileTrouble
from common_bench.pool.class_line import class_result
from common_bench.pool.many_classes import mean_of_classes, merged
from common_bench.pool.many_schools import ManySchools, add_to_dataset, many_schools, plans_of

GRAPHS = {
    "line": ClassGraph("period^2", "length", "g = 4 * pi^2 / slope", "9.81 m/s²"),
    "through zero": ClassGraph("period^2", "length", "g = 4 * pi^2 / slope", "9.81 m/s²", line="through-zero"),
    "no line": ClassGraph("period^2 / length", "", "k = class_mean"),
}


def plan_with(graph: ClassGraph) -> Plan:
    return Plan(
        "Bottles", sensors=(SensorPlan("load", "tension", unit="N"),),
        workings=("pass = peaks in tension above 2 N, 0.4 s apart", "period = 2 * mean of gap between pass"),
        findings=("period",), conditions=(Condition("length", "m"),), graph=graph,
    )  # fmt: skip


def pool(
    plan: Plan, school: int, of_class: int, *, sent: str = "2026-11-01T10:00:00+00:00", stated: bool = True
) -> SharedPool:
    dice = np.random.default_rng([school, of_class])
    g = 9.81 + 0.05 * dice.normal()
    runs = []
    for group, length in enumerate(np.linspace(0.5, 1.4, 7)):
        own = float(length + 0.004 * dice.normal())
        for number in range(1, 1 + int(dice.integers(1, 4))):
            period = 2 * math.pi * math.sqrt(own / g) + 0.003 * dice.normal()
            in_cm = group == 3  # a group that states its length in another unit
            runs.append(
                SharedRun(
                    f"{school}-{of_class}-{group}-{number}", f"class-{school}-{of_class}", f"group {group}", number, "", sent, "d",
                    {"length": SharedNumber(float(length) * (100 if in_cm else 1), 0.003 * (100 if in_cm else 1), "cm" if in_cm else "m")},
                    {"period": SharedNumber(float(period), 0.002 if stated else None, "s", shared=0.0015 * (stated and school % 2))},
                )
            )  # fmt: skip
    runs[4] = msgspec.structs.replace(runs[4], aside="bumped")
    return SharedPool(plan_to_text(plan), tuple(runs))


def by_ourselves(
    plan: Plan, schools: dict[str, list[SharedPool]]
) -> tuple[dict[str, Measured | None], Measured | None, float]:
    """The same by our own code, run by run."""
    found = {}
    for name, pools in schools.items():
        rows, _ = merged(plan, [each.runs for each in pools])
        findings = [each for own in rows.values() if (each := class_result(plan, own).finding) is not None]
        found[name] = findings[0] if len(findings) == 1 else mean_of_classes(findings)[0]
    return found, *mean_of_classes([each for each in found.values() if each is not None])


@pytest.fixture(scope="module")
def cluster() -> Iterator[Any]:
    """Two processes on loopback."""
    from distributed import Client, LocalCluster

    made = LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None, host="127.0.0.1")
    client = Client(made)
    yield client
    client.close()
    made.close()


def agree(found: ManySchools, wanted: tuple[dict[str, Measured | None], Measured | None, float]) -> None:
    schools, finding, between = wanted
    assert list(found.schools) == sorted(schools)
    for name, each in schools.items():
        own = found.schools[name]
        assert (own is None) == (each is None)
        if own is not None and each is not None:
            assert [own.value, own.u] == pytest.approx([each.value, each.u], rel=1e-9)
            assert own.unit == each.unit
    assert found.finding is not None
    assert finding is not None
    assert [found.finding.value, found.finding.u, found.between] == pytest.approx([finding.value, finding.u, between], rel=1e-7, abs=1e-12)  # fmt: skip


@pytest.mark.parametrize("graph", GRAPHS)
@pytest.mark.parametrize("stated", [True, False])
def test_both_engines_find_what_our_own_code_finds(graph: str, stated: bool, tmp_path: Path, cluster: Any) -> None:
    plan = plan_with(GRAPHS[graph])
    schools: dict[str, list[SharedPool]] = {}
    for school in range(4):
        name = f"North {school}"
        schools[name] = [pool(plan, school, each, stated=stated) for each in range(1 + school % 3)]
        for each in schools[name]:
            assert add_to_dataset(tmp_path, name, each) == len(each.runs)
    (older,) = tmp_path.rglob("school=North 0/*.parquet")
    parquet.write_table(parquet.ParquetFile(older).read().drop_columns(["shared_y"]), older)
    before = {each: each.stat().st_mtime_ns for each in tmp_path.rglob("*.parquet")}
    assert add_to_dataset(tmp_path, "North 1", schools["North 1"][0]) == 0, "the same twice is there once"
    later = pool(plan, 1, 0, sent="2026-11-02T10:00:00+00:00", stated=stated)
    changed = [
        msgspec.structs.replace(each, aside="the wrong end" if at == 0 else each.aside)
        for at, each in enumerate(later.runs)
    ]
    later = SharedPool(later.plan, tuple(changed))
    assert add_to_dataset(tmp_path, "North 1", later) == len(later.runs)
    schools["North 1"].append(later)
    assert all(each.stat().st_mtime_ns == at for each, at in before.items()), "nothing that lies there is written anew"
    wanted = by_ourselves(plan, schools)
    agree(many_schools(tmp_path, "Bottles"), wanted)
    found = many_schools(tmp_path, "Bottles", "dask", cluster)
    agree(found, wanted)
    assert found.classes == sum(1 + school % 3 for school in range(4))


def test_a_dataset_is_filled_and_asked_from_the_command_line_and_refuses_in_words(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    plan, folder = plan_with(GRAPHS["line"]), tmp_path / "many"
    for school in range(2):
        package = keep_package(pool(plan, school, 0), tmp_path / f"p{school}.benchpool")
        assert main(["pool", str(package), "--dataset", str(folder), "--school", f"South-{school}"]) == 0
    count = len(pool(plan, 1, 0).runs)
    assert f"{count} of {count} runs are new there." in capsys.readouterr().out
    assert main(["pool", "--dataset", str(folder)]) == 0
    assert capsys.readouterr().out == "Bottles: 2 schools\n"
    assert main(["pool", "--dataset", str(folder), "--plan", "Bottles"]) == 0
    assert "mean of 2 schools: 9." in capsys.readouterr().out
    assert main(["pool", "--dataset", str(folder), "--plan", "Bottles", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert set(told["schools"]) == {"South-0", "South-1"}
    assert told["mean_of_schools"]["unit"] == "m/s²"
    for words in (["--plan", "Springs"], ["p0.benchpool"]):
        assert main(["pool", *[str(tmp_path / each) if each.endswith("pool") else each for each in words], "--dataset", str(folder)]) == 2  # fmt: skip
    assert "North 3" in capsys.readouterr().err, "a school has a name"
    with pytest.raises(FileTrouble, match="no runs of many schools"):
        plans_of(tmp_path / "nothing")
    assert dataclasses.is_dataclass(many_schools(folder, "Bottles"))
