"""Beyond a department: many schools' runs as a partitioned Parquet dataset, one row a run, appended without rewriting.

A query engine on one machine (DuckDB) or on several (Dask) brings them down to one row for each place of each group: how many runs,
their means, what they scatter and state. From there the class line is ours, the same as from single runs; what classes find is put
together for each school, and what schools find once more.
"""

from __future__ import annotations

import hashlib
import itertools
import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import msgspec
import numpy as np
import pyarrow as pa
from pyarrow import parquet

from common_bench.model.class_line import GroupPlace
from common_bench.model.measured import Measured
from common_bench.model.plan import Plan
from common_bench.model.plan_file import plan_from_text
from common_bench.model.run import PoolRow
from common_bench.model.shared_pool import SharedNumber, SharedPool
from common_bench.model.trouble import FileTrouble
from common_bench.pool.class_line import class_graph_of, finding_of_places
from common_bench.pool.department import plan_id
from common_bench.pool.many_classes import mean_of_classes, units_of
from common_bench.pool.places import place_of_runs, point_of
from common_bench.pool.run_rows import run_rows

Engine = Literal["duckdb", "dask"]
SCHEMA = pa.schema([
    ("run", pa.string()), ("class_id", pa.string()), ("group", pa.string()), ("number", pa.int64()), ("sent_at", pa.string()),
    ("aside", pa.string()), ("place", pa.string()), ("x", pa.float64()), ("u_x", pa.float64()), ("y", pa.float64()), ("u_y", pa.float64()),
    ("shared_y", pa.float64()),
])  # fmt: skip
"""place: of x, by which runs at one value of the condition are told to be so; u_x, u_y: null where they are not known; shared_y: the part of u_y
that further runs of the group have too, missing in files that an older program wrote. The units of x
and y are those of the plan, which lies beside."""
PLACES = """
    SELECT school, class_id, "group", place, count(*) AS runs, avg(x) AS x, max(u_x) AS u_x, count(u_x) AS known_x, avg(y) AS y,
        var_pop(y) * count(*) AS squares, sum(greatest(0, u_y * u_y - coalesce(shared_y * shared_y, 0))) AS stated, count(u_y) AS known_y, avg(coalesce(shared_y, 0)) AS shared
    FROM (
        SELECT *, row_number() OVER (PARTITION BY school, run ORDER BY sent_at DESC) AS last
        FROM (
            SELECT * FROM read_parquet(?, union_by_name = true, hive_partitioning = true, hive_types = {'school': VARCHAR})
            UNION ALL BY NAME SELECT NULL::DOUBLE AS shared_y WHERE false
        )
    )
    WHERE last = 1 AND aside = ''
    GROUP BY school, class_id, "group", place ORDER BY school, class_id, "group", place
"""
COLUMNS = ("runs", "x", "u_x", "known_x", "y", "squares", "stated", "known_y", "shared")
PLAN, FILE = "plan.benchplan", "{digest}.parquet"


@dataclass(frozen=True)
class ManySchools:
    """schools: name -> the mean of what its classes find, None where it has none; classes: how many have found something; finding: the
    mean of what schools find, weighted by their uncertainty and by what they scatter beyond it; between: that scatter."""

    schools: dict[str, Measured | None]
    classes: int
    runs: int
    finding: Measured | None
    between: float


def add_to_dataset(folder: Path, school: str, shared: SharedPool) -> int:
    """Adds a pool to a dataset as a file of its own; the same pool twice is there once. Gives how many rows were added. Raises
    FileTrouble where the folder refuses them, and for a school's name that is none."""
    if not re.fullmatch(r"\w[\w\- ]{0,60}", school):
        raise FileTrouble("school-not-named", name=school)
    plan = plan_from_text(shared.plan, "the plan of the pool")
    rows = run_rows(plan, shared)
    table = pa.Table.from_pylist(rows, SCHEMA)
    digest = hashlib.sha256(msgspec.json.encode(rows)).hexdigest()[:24]
    place = folder / f"plan={plan_id(shared.plan)}" / f"school={school}"
    file = place / FILE.format(digest=digest)
    if not rows or file.exists():
        return 0
    try:
        place.mkdir(parents=True, exist_ok=True)
        text = place.parent / PLAN
        if not text.exists():
            text.write_text(shared.plan, "utf-8")
        part = file.with_suffix(".part")
        parquet.write_table(table, part, compression="zstd")
        part.rename(file)  # whole or not at all
    except OSError as fault:
        raise FileTrouble("dataset-refused", where=str(folder), fault=fault.strerror or str(fault)) from fault
    return len(rows)


def plans_of(folder: Path) -> dict[str, Path]:
    """Name of each plan of a dataset -> where its runs lie. Raises FileTrouble where the folder is none."""
    found = {}
    for each in sorted(folder.glob(f"plan=*/{PLAN}")):
        found[plan_from_text(each.read_text("utf-8"), str(each)).name] = each.parent
    if not found:
        raise FileTrouble("no-dataset", where=str(folder))
    return found


def many_schools(folder: Path, name: str, engine: Engine = "duckdb", client: Any = None) -> ManySchools:
    """What all schools of a dataset find by a plan. client: of a Dask cluster; its own processes are used where there is none.
    Raises FileTrouble where there is no such plan or the engine is not installed."""
    plans = plans_of(folder)
    if name not in plans:
        raise FileTrouble("dataset-without-plan", name=name, known=", ".join(plans))
    place = plans[name]
    plan = plan_from_text((place / PLAN).read_text("utf-8"), str(place))
    try:
        table = _by_duckdb(place) if engine == "duckdb" else _by_dask(place, client)
    except ImportError as fault:
        raise FileTrouble("engine-missing", engine=engine) from fault
    columns = {name: table.column(name).to_numpy(zero_copy_only=False) for name in COLUMNS}
    schools, classes, groups = (table.column(name).to_pylist() for name in ("school", "class_id", "group"))
    return put_together(plan, columns, schools, classes, groups)


def _by_duckdb(place: Path) -> pa.Table:
    import duckdb

    with duckdb.connect() as connection:
        connection.execute("SET enable_progress_bar = false")  # what is printed is ours
        return connection.sql(PLACES, params=[str(place / "*" / "*.parquet")]).to_arrow_table()


def _by_dask(place: Path, client: Any) -> pa.Table:
    from dask import dataframe as dd

    schools = sorted(each.name.removeprefix("school=") for each in place.glob("school=*"))
    places = dd.from_map(_SchoolPlaces(place), schools, meta=_SchoolPlaces.nothing())
    options = {} if client is not None else {"scheduler": "processes"}
    whole = places.compute(**options).sort_values(["school", "class_id", "group", "place"], kind="stable")
    return pa.Table.from_pandas(whole, preserve_index=False)


class _SchoolPlaces:
    """One school's rows brought down to its places, in a worker's process."""

    def __init__(self, place: Path) -> None:
        self._place = place

    @staticmethod
    def nothing() -> Any:
        import pandas as pd

        texts = {each: pd.Series([], dtype="object") for each in ("school", "class_id", "group", "place")}
        whole = ("runs", "known_x", "known_y")
        return pd.DataFrame(
            {**texts, **{each: pd.Series([], dtype="int64" if each in whole else "float64") for each in COLUMNS}}
        )

    def __call__(self, school: str) -> Any:
        files = sorted((self._place / f"school={school}").glob("*.parquet"))
        tables = [parquet.ParquetFile(each).read() for each in files]
        rows = pa.concat_tables([SCHEMA.empty_table(), *tables], promote_options="default").to_pandas()
        rows = rows.sort_values("sent_at", ascending=False, kind="stable").drop_duplicates("run")
        rows = rows[rows["aside"] == ""]
        rows["shared_y"] = rows["shared_y"].astype(float).fillna(0.0)
        rows["squared"] = (rows["u_y"] ** 2 - rows["shared_y"] ** 2).clip(lower=0.0)
        groups = rows.groupby(["class_id", "group", "place"], sort=True)
        found = groups.agg(
            runs=("y", "size"), x=("x", "mean"), u_x=("u_x", "max"), known_x=("u_x", "count"), y=("y", "mean"),
            squares=("y", _squares), stated=("squared", "sum"), known_y=("u_y", "count"),
            shared=("shared_y", "mean"),
        ).reset_index()  # fmt: skip
        found.insert(0, "school", school)
        texts = {each: found[each].astype("object") for each in ("school", "class_id", "group", "place")}
        return found.assign(**texts)[["school", "class_id", "group", "place", *COLUMNS]]


def _squares(values: Any) -> float:
    return float(values.var(ddof=0) * len(values))


def put_together(
    plan: Plan, columns: Mapping[str, Any], schools: Sequence[str], classes: Sequence[str], groups: Sequence[str]
) -> ManySchools:
    """Each class by itself, from its places; then schools, then all. columns: of places in the order of schools, classes and groups,
    (n,) each, as COLUMNS names them."""
    graph = class_graph_of(plan)
    assert graph is not None
    edges = [
        at for at in range(len(schools)) if not at or (schools[at], classes[at]) != (schools[at - 1], classes[at - 1])
    ]
    found: dict[str, list[Measured]] = {each: [] for each in dict.fromkeys(schools)}
    runs = int(columns["runs"].sum()) if len(schools) else 0
    for low, high in itertools.pairwise([*edges, len(schools)]):
        own = {name: values[low:high] for name, values in columns.items()}
        finding = finding_of_places(plan, _places(groups[low:high], own, plan))
        if finding is not None:
            found[schools[low]].append(finding)
    of_schools = {school: each[0] if len(each) == 1 else mean_of_classes(each)[0] for school, each in found.items()}
    finding, between = mean_of_classes([each for each in of_schools.values() if each is not None])
    return ManySchools(of_schools, sum(map(len, found.values())), runs, finding, between)


def _places(groups: Sequence[str], own: dict[str, Any], plan: Plan) -> list[GroupPlace]:
    """The places of a class from what its runs come down to, the same as from its runs (ISO 5725-2)."""
    graph = class_graph_of(plan)
    assert graph is not None
    runs, several = own["runs"], own["runs"] > 1
    dof = float((runs[several] - 1).sum())
    beyond = math.nan
    known = own["known_y"] == runs
    if dof:
        seen = float(own["squares"][several].sum()) / dof
        mean = float(own["stated"][several].sum() / runs[several].sum()) if known[several].all() else math.nan
        beyond = max(1.0, seen / mean) if math.isfinite(mean) and mean > 0 else seen
    number = {alias: at for at, alias in enumerate(dict.fromkeys(groups), 1)}
    x_unit, y_unit = axis_units(plan)
    places = []
    for at, alias in enumerate(groups):
        stated = float(own["stated"][at]) / float(runs[at]) ** 2 if known[at] else math.nan
        u_x = float(own["u_x"][at]) if own["known_x"][at] == runs[at] else math.nan
        y = place_of_runs(
            float(own["y"][at]), int(runs[at]), stated, beyond, dof, math.inf, y_unit, float(own["shared"][at])
        )
        places.append(
            GroupPlace(
                number[alias],
                alias,
                int(runs[at]),
                Measured(float(own["x"][at]), u_x, x_unit),
                y,
                math.nan,
                math.nan,
                "",
            )
        )
    return places


def axis_units(plan: Plan) -> tuple[str, str]:
    """Units of what a plan draws to the right and upwards."""
    graph, units = class_graph_of(plan), units_of(plan)
    assert graph is not None
    one = {name: Measured(1.0, 0.0, unit) for name, unit in units.items()}
    point = point_of(graph, PoolRow(0, 0, "", 0, one, one, ""))
    return (point.x.unit, point.y.unit) if point is not None else ("", "")


def lines_of_schools(found: ManySchools) -> list[str]:
    """For a terminal."""
    return told_of_each(found, "schools", f"{found.runs} runs, {found.classes} classes, {len(found.schools)} schools")


def told_of_each(found: ManySchools, what: str, together: str) -> list[str]:
    """What each of them finds, how many they are together, and their mean. what: they are."""
    lines = [f"{name}: {each if each is not None else 'no finding'}" for name, each in found.schools.items()]
    lines.append(together)
    if found.finding is not None:
        scatter = f"{found.between:.2g} {found.finding.unit}".rstrip()
        lines.append(
            f"mean of {len(found.schools)} {what}: {found.finding}; they scatter by {scatter} beyond what they state"
        )
    return lines


def schools_json(found: ManySchools) -> dict[str, Any]:
    """The object that is printed for a dataset."""
    return {
        "schools": {name: SharedNumber.of(each).told if each else None for name, each in found.schools.items()}, "classes": found.classes, "runs": found.runs,
        "mean_of_schools": SharedNumber.of(found.finding).told if found.finding else None, "between_schools": found.between if np.isfinite(found.between) else None,
    }  # fmt: skip
