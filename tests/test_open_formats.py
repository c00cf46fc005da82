"""What leaves a book in open formats is what others can read: judged by the reference library for data packages and by the code that
our own documentation gives to a colleague."""

from __future__ import annotations

import csv
import json
import re
import shutil
from pathlib import Path

import frictionless
import matplotlib as mpl
import msgspec
import numpy as np
import pandas
import pyarrow.parquet as pq
import pytest

from common_bench.cli.running import main
from common_bench.exchange.columnar import keep_parquet
from common_bench.exchange.data_package import data_package
from common_bench.exchange.senml_out import senml_pack
from common_bench.lesson.demonstration import demonstrate
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.block import Series
from common_bench.model.calibration import Calibration
from common_bench.model.plan import Plan
from common_bench.reading.senml import senml_records
from common_bench.record.replay import quantities

DOCS = Path(__file__).parent.parent / "docs" / "for-a-colleague.md"
# Rows of each table, which are all made by one line of ours; the library takes a millisecond and more for each.
JUDGED = 300


@pytest.fixture(scope="module")
def exported(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    folder = tmp_path_factory.mktemp("out")
    book = demonstrate(folder / "lesson", class_name="drying-sponges", say=lambda _: None).book
    assert main(["export", str(book), str(folder / "export"), "--parquet"]) == 0
    return book, folder / "export"


def test_a_data_package_is_valid_for_the_reference_library(exported: tuple[Path, Path]) -> None:
    _, folder = exported
    report = frictionless.validate(str(folder / "datapackage.json"), limit_rows=JUDGED)
    assert report.valid, report.flatten(["resource", "rowNumber", "type", "note"])[:5]
    told = json.loads((folder / "datapackage.json").read_text("utf-8"))
    by_path = {each["path"]: each for each in told["resources"]}
    assert {path.name for path in folder.iterdir() if path.suffix not in (".tape", ".senml")} == {
        *by_path,
        "datapackage.json",
    }
    fields = {each["name"]: each for each in by_path["pool.csv"]["schema"]["fields"]}
    assert fields["start (g/h)"] == {"name": "start (g/h)", "type": "number", "unit": "g/h"}
    assert fields["u_start (g/h)"]["uncertaintyOf"] == "start"
    assert fields["group"]["type"] == "string"
    assert fields["run"]["type"] == "integer"
    first = next(path for path in by_path if path.endswith("run-1.csv"))
    rows = list(csv.reader((folder / first).open(encoding="utf-8", newline="")))
    assert [each["name"] for each in by_path[first]["schema"]["fields"]] == rows[0]
    (folder / "pool.csv").write_text(
        (folder / "pool.csv").read_text("utf-8").replace("Basalt,1", "Basalt,one"), "utf-8"
    )
    try:
        damaged = frictionless.Package(str(folder / "datapackage.json")).get_resource("pool")
        assert not damaged.validate().valid, "what is wrong is found"
    finally:
        (folder / "pool.csv").write_text(
            (folder / "pool.csv").read_text("utf-8").replace("Basalt,one", "Basalt,1"), "utf-8"
        )


def test_runs_go_out_as_columns_with_the_same_numbers_and_calibrations_whole(exported: tuple[Path, Path]) -> None:
    book, folder = exported
    told = {each["path"]: each for each in json.loads((folder / "datapackage.json").read_text("utf-8"))["resources"]}
    runs = sorted(folder.glob("*-run-1.parquet"))
    assert len(runs) == 6
    for path in runs:
        table = pq.read_table(path)
        rows = list(csv.reader(path.with_suffix(".csv").open(encoding="utf-8", newline="")))
        assert table.column_names == rows[0] == [each["name"] for each in told[path.name]["schema"]["fields"]]
        for at, name in enumerate(rows[0]):
            cells = [row[at] for row in rows[1:]]
            values = table.column(name).to_pylist()
            if "is a guess" in name:
                assert [value or "" for value in values] == cells
            else:
                assert values == [float(cell) if cell else None for cell in cells], "to the last bit"
        (unit,) = [dict(table.schema.field(each).metadata or {}).get(b"unit") for each in rows[0] if each.startswith("time")]  # fmt: skip
        assert unit == b"s"
    lesson = OpenLesson.open(book, readonly=True)
    own = {each for run in lesson.store.runs() for each in run.setting.calibrations}
    lesson.close()
    kept = msgspec.json.decode((folder / "calibrations.json").read_bytes(), type=list[Calibration])
    assert {repr(each) for each in kept} == {repr(each) for each in own}


def test_the_code_for_a_colleague_gives_the_same_numbers(
    exported: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    book, folder = exported
    mpl.use("Agg")
    code = re.search(r"```python\n(.*?)```", DOCS.read_text("utf-8"), re.DOTALL)[1]
    assert len(code.strip().splitlines()) <= 14
    monkeypatch.chdir(folder)
    exec(compile(code, str(DOCS), "exec"), {})
    said = capsys.readouterr().out
    lesson = OpenLesson.open(book, readonly=True)
    found = lesson.pooling.class_result().finding
    lesson.close()
    assert said.strip() == f"transfer = {found.value:.6g} ± {found.u:.2g}, 5 of 6 runs"


def test_columns_of_any_kind_are_told_as_what_they_hold(tmp_path: Path) -> None:
    path = tmp_path / "Odd Table.csv"
    path.write_text(
        "a (m/s^2),u_a (m/s^2),b,c is a guess,d (g/(h·cm^2)),e\r\n1,0.5,x,yes,1e-3,\r\n2,,-4,,2,\r\n",
        "utf-8",
        newline="",
    )
    (resource,) = json.loads(data_package("Odd: one", "Odd", [path], tmp_path))["resources"]
    assert resource["name"] == "odd-table"
    told = [
        (each["name"], each["type"], each.get("unit"), each.get("uncertaintyOf"))
        for each in resource["schema"]["fields"]
    ]
    assert told == [("a (m/s^2)", "integer", "m/s^2", None), ("u_a (m/s^2)", "number", "m/s^2", "a"), ("b", "string", None, None), ("c is a guess", "string", None, None), ("d (g/(h·cm^2))", "number", "g/(h·cm^2)", None), ("e", "number", None, None)]  # fmt: skip


def test_what_no_row_knows_is_a_column_of_numbers_and_only_words_are_words(tmp_path: Path) -> None:
    path = tmp_path / "run.csv"
    path.write_text("time (s),x (V),u_x (V),u_n,x is a guess\r\n0,1,,,\r\n1,2,,,\r\n", "utf-8", newline="")
    kinds = pandas.read_parquet(keep_parquet(path)).dtypes
    assert [kinds.iloc[at].kind for at in range(4)] == ["f"] * 4, "an unknown uncertainty is a number that nobody knows"
    (resource,) = json.loads(data_package("run", "run", [path], tmp_path))["resources"]
    assert [each["type"] for each in resource["schema"]["fields"]][2:] == ["number", "number", "string"]


def test_every_lesson_of_a_book_is_exported_each_to_its_folder_and_its_pool_holds_its_own_runs_alone(
    exported: tuple[Path, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    book = tmp_path / "two.benchbook"
    shutil.copy(exported[0], book)
    first = OpenLesson.open(book, readonly=True)
    runs, plan = len(first.store.runs()), first.store.plan
    first.close()
    second = OpenLesson.begin(book, plan)
    assert second.store.pooled() == {}, "nothing was sent in this lesson"
    assert second.store.pool_rows() == []
    second.pooling.open_pool(opened=True)
    assert second.pooling.class_result().points == ()
    second.close()
    assert main(["export", str(book), str(tmp_path / "not" / "yet" / "there")]) == 0
    out = tmp_path / "not" / "yet" / "there"
    one, two = sorted(path for path in out.iterdir() if path.is_dir())
    assert one.name.startswith("lesson-1-")
    assert len([*one.glob("*-run-*.senml")]) == runs
    assert [*two.glob("*-run-*")] == []
    assert len((two / "pool.csv").read_text().splitlines()) == 1, "its pool is empty"
    report = frictionless.validate(str(out / "datapackage.json"), limit_rows=JUDGED)
    assert report.valid, report.flatten(["resource", "rowNumber", "type", "note"])[:5]
    told = json.loads((out / "datapackage.json").read_text("utf-8"))
    names = [each["name"] for each in told["resources"]]
    assert len(names) == len(set(names))
    assert {f"{one.name}/findings.csv", f"{two.name}/findings.csv"} <= {each["path"] for each in told["resources"]}
    assert main(["export", str(book), str(tmp_path / "one"), "--lesson", "1"]) == 0
    assert {path.name for path in (tmp_path / "one").iterdir() if path.suffix != ".json"} == {
        path.name for path in one.iterdir() if path.suffix != ".json"
    }
    capsys.readouterr()
    assert main(["export", str(book), str(tmp_path / "none"), "--lesson", "7"]) == 2
    assert "lesson" in capsys.readouterr().err


def test_readings_go_out_as_sensor_measurements_and_come_back_as_they_were(
    exported: tuple[Path, Path], tmp_path: Path
) -> None:
    book, folder = exported
    lesson = OpenLesson.open(book, readonly=True)
    run = lesson.store.runs()[0]
    alias = lesson.store.group(run.group).alias
    series = quantities(lesson.working_up.replayed(run.id))
    pack = folder / f"{alias.lower()}-run-{run.number}.senml"
    records = senml_records(json.loads(pack.read_text()), most=10**6)
    assert records is not None
    for name, each in series.items():
        own = [record for record in records if record.name == f"{alias.lower()}-run-{run.number}:{name}"]
        known = np.isfinite(each.values)
        assert [record.value for record in own] == each.values[known].tolist()
        assert {record.unit for record in own} <= {"g", "Cel", "%", "h", "g/h", ""}
    times = sorted({record.time for record in records})
    assert (
        times == [record.time for record in sorted(records, key=lambda each: each.time)][:: len(series)][: len(times)]
    )
    lesson.close()
    brought = OpenLesson.make(tmp_path / "again.benchbook", Plan("Again"), "9B", [alias])
    preview = brought.bringing_in.look_at(pack)
    names = [each.name for each in preview.columns if each.role == "channel"]
    assert any(name.endswith("mass") or "mass" in name for name in names)
    assert preview.seconds == pytest.approx(times[-1] - times[0], rel=1e-6)
    brought.close()


def test_names_and_units_are_those_that_the_rfc_lets_through() -> None:
    t = np.array([0.0, 0.5])
    series = {
        "Länge": Series(t, np.array([1.0, np.nan]), "m"), "_g": Series(t, np.array([9.8, 9.9]), "m/s²"),
        "warm": Series(t, np.array([20.0, 21.0]), "°C"),
    }  # fmt: skip
    pack = json.loads(senml_pack("Flint's run", series, 1.7e9))
    assert pack[0]["bn"] == "Flint-s-run:"
    assert pack[0]["bt"] == 1.7e9
    assert [(each["n"], each["u"], each["t"], each["v"]) for each in pack] == [
        ("L-nge", "m", 0.0, 1.0), ("g", "m/s2", 0.0, 9.8), ("warm", "Cel", 0.0, 20.0), ("g", "m/s2", 0.5, 9.9),
        ("warm", "Cel", 0.5, 21.0),
    ]  # fmt: skip
    assert "bt" not in json.loads(senml_pack("a", series, None))[0]
    assert json.loads(senml_pack("a", {}, None)) == []
