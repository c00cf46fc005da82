"""Pools of several classes, books and machines: packages, and a department's PostgreSQL server, with real ones of each."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec
import numpy as np
import pyqtgraph as pg
import pytest

from common_bench.cli.running import main
from common_bench.desk.pool import class_drawing
from common_bench.desk.pool.stage import PoolStage
from common_bench.lesson.demonstration import demonstrate
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.lessons import begin_lesson
from common_bench.lesson.pools_together import PoolsTogether
from common_bench.lesson.sharing import keep_package, pool_from, pooled_together, shared_pool
from common_bench.lesson.store import LessonStore
from common_bench.model.measured import written
from common_bench.model.plan_file import plan_to_text, shipped_plan
from common_bench.model.shared_pool import SharedNumber, SharedPool, SharedRun
from common_bench.model.trouble import FileTrouble, PoolTrouble
from common_bench.pool.department import VERSION, Department, plan_id
from common_bench.pool.department_places import grouped_by_server
from common_bench.pool.many_classes import mean_of_classes
from person import Desk
from servers import Postgres
from test_desk_record import uncut

PLAN = shipped_plan("swinging-bottles")
TEXT = plan_to_text(PLAN)
CLASS = "drying-sponges"


@pytest.fixture(scope="module")
def server() -> Iterator[Postgres]:
    made = Postgres()
    yield made
    made.close()


@pytest.fixture(scope="module")
def books(tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    """Two parallel classes that have held the same lesson."""
    folder = tmp_path_factory.mktemp("classes")
    return [demonstrate(folder / str(seed), class_name=CLASS, seed=seed, say=lambda _: None).book for seed in (9, 12)]


def runs_of(of_class: str, seed: int, groups: int = 6, each: int = 2, g: float = 9.81) -> tuple[SharedRun, ...]:
    dice, found = np.random.default_rng(seed), []
    for group in range(groups):
        length = 0.5 + 0.12 * group
        for number in range(1, each + 1):
            period = 2 * np.pi * (length / g) ** 0.5 + dice.normal(0, 0.002)
            found.append(
                SharedRun(
                    f"{of_class}-{group}-{number}", of_class, f"Group{group}", number, "2026-11-24T09:40:00", "2026-11-24T10:00:00", "ab",
                    {"length": SharedNumber(length, 0.002, "m")}, {"period": SharedNumber(float(period), 0.002, "s", shared=0.001 * (group % 2))},
                )
            )  # fmt: skip
    return tuple(found)


def test_what_is_sent_is_there_once_however_often_and_from_however_many_machines(server: Postgres) -> None:
    url = server.database("once")
    assert Department(url).make_ready() == VERSION
    assert Department(url).make_ready() == VERSION, "once more does nothing"
    pools = [SharedPool(TEXT, runs_of(f"c{at}", at) + runs_of("common", 77)) for at in range(4)]

    def send(pool: SharedPool) -> int:
        return sum(Department(url).send(pool, PLAN.name) for _ in range(5))

    with ThreadPoolExecutor(4) as machines:
        added = list(machines.map(send, pools))
    assert sum(added) == 5 * 12, "each run is added once, by whichever machine"
    found = Department(url).pool_of(PLAN.name)
    assert {each.id for each in found.runs} == {each.id for pool in pools for each in pool.runs}
    assert sorted(found.runs, key=lambda r: r.id) == sorted(
        {r.id: r for p in pools for r in p.runs}.values(), key=lambda r: r.id
    )
    assert Department(url).plans() == {PLAN.name: 60}
    later = msgspec.structs.replace(pools[0].runs[0], aside="bumped", sent_at="2026-11-25T08:00:00")
    assert Department(url).send(SharedPool(TEXT, (later,)), PLAN.name) == 1
    again = next(each for each in Department(url).pool_of(PLAN.name).runs if each.id == later.id)
    assert again.aside == "bumped", "what was told last counts"
    assert server.sql("SELECT count(*) FROM bench_told", "once") == "61", "and nothing was changed"
    together = pooled_together(found, [])
    assert len(together.found.classes) == 5
    assert abs(together.found.finding.value - 9.81) < 4 * together.found.finding.u
    with pytest.raises(PoolTrouble, match="There are: Swinging bottles"):
        Department(url).pool_of("Nothing")


def test_a_lost_server_loses_nothing_and_is_caught_up_with(server: Postgres) -> None:
    url = server.database("lost")
    department, pool = Department(url), SharedPool(TEXT, runs_of("c", 3))
    department.make_ready()
    assert department.send(pool, PLAN.name) == 12
    more = SharedPool(TEXT, pool.runs + runs_of("d", 4))
    server.stop()
    try:
        with pytest.raises(PoolTrouble, match="does not answer") as told:
            department.send(more, PLAN.name)
        assert "secret" not in str(told.value.sentence), "no password is told"
    finally:
        back = threading.Timer(1.5, server.start)
        back.start()
    assert department.send_within(more, PLAN.name, 30.0) == 12, "it goes on by itself when the server is back"
    back.join()
    assert len(department.pool_of(PLAN.name).runs) == 24
    for wrong in ("mysql://somebody@127.0.0.1/x", "not an address", "postgresql://owner@127.0.0.1:1/postgres"):
        with pytest.raises(PoolTrouble):
            Department(wrong).plans()


def test_one_role_may_only_add_and_one_may_only_read(server: Postgres) -> None:
    url = server.database("roles")
    with pytest.raises(PoolTrouble, match="no tables of ours"):
        Department(url).send(SharedPool(TEXT, runs_of("c", 1)), PLAN.name)
    Department(url).make_ready()
    server.database("bare")
    server.sql("CREATE USER room12 IN ROLE bench_adds; CREATE USER office IN ROLE bench_reads")
    adds, reads = (Department(server.url(user, "roles")) for user in ("room12", "office"))
    assert adds.send(SharedPool(TEXT, runs_of("c", 1)), PLAN.name) == 12
    assert len(reads.pool_of(PLAN.name).runs) == 12
    for refused in (
        lambda: adds.pool_of(PLAN.name),
        lambda: reads.send(SharedPool(TEXT, runs_of("d", 1)), PLAN.name),
        Department(server.url("room12", "bare")).make_ready,
    ):
        with pytest.raises(PoolTrouble, match="does not allow"):
            refused()
    for statement in (
        "DELETE FROM bench_told",
        "UPDATE bench_run SET number = 9",
        "DROP TABLE bench_run",
        "SELECT * FROM bench_told",
    ):
        with pytest.raises(AssertionError, match=r"permission denied|must be owner"):
            server.sql(f"SET ROLE bench_adds; {statement}", "roles")


def test_a_database_of_the_version_before_is_brought_to_this_one(server: Postgres) -> None:
    url = server.database("older")
    department, pool = Department(url), SharedPool(TEXT, runs_of("c", 5))
    department.make_ready()
    department.send(pool, PLAN.name)
    server.sql(
        "ALTER TABLE bench_told DROP COLUMN words; DELETE FROM bench_schema; INSERT INTO bench_schema VALUES (1)",
        "older",
    )
    with pytest.raises(PoolTrouble, match="older version"):
        department.send(pool, PLAN.name)
    assert department.make_ready() == VERSION
    assert len(department.pool_of(PLAN.name).runs) == 12
    server.sql(f"INSERT INTO bench_schema VALUES ({VERSION + 1})", "older")
    for refused in (lambda: department.send(pool, PLAN.name), department.make_ready):
        with pytest.raises(PoolTrouble, match="newer version"):
            refused()


def test_a_lesson_goes_to_the_department_and_comes_back_with_the_same_numbers(
    server: Postgres, books: list[Path], capsys: pytest.CaptureFixture[str]
) -> None:
    url = server.database("department")
    assert main(["pool", "--make-ready", url]) == 0
    for book in books:
        assert main(["pool", str(book), "--to", url, "--wait", "5"]) == 0
    assert "6 of 6 runs are new there" in capsys.readouterr().out
    assert main(["pool", str(books[0]), "--to", url]) == 0
    assert "0 of 6 runs are new there" in capsys.readouterr().out
    assert main(["pool", "--from", url]) == 0
    assert "Drying sponges: 12 runs" in capsys.readouterr().out
    assert main(["pool", "--from", url, "--plan", "Drying sponges", "--json"]) == 0
    together = json.loads(capsys.readouterr().out)
    alone = []
    for book in books:
        assert main(["pool", str(book), "--json"]) == 0
        alone.append(json.loads(capsys.readouterr().out)["finding"])
    assert sorted(each["finding"]["value"] for each in together["classes"]) == pytest.approx(sorted(each["value"] for each in alone), rel=1e-12)  # fmt: skip
    assert together["mean_of_classes"]["value"] == pytest.approx(0.020, abs=3 * together["mean_of_classes"]["u"])
    assert main(["pool", str(books[0]), "--with", str(books[1]), "--json"]) == 0
    beside = json.loads(capsys.readouterr().out)["finding"]
    assert (beside["value"], beside["u"]) == pytest.approx(
        (together["finding"]["value"], together["finding"]["u"]), rel=1e-12
    )
    assert main(["pool", str(books[0]), "--to", "postgresql://nobody@127.0.0.1:1/none"]) == 2
    assert "does not answer" in capsys.readouterr().err


def test_the_server_groups_runs_to_the_same_digits_as_from_single_ones(
    server: Postgres, capsys: pytest.CaptureFixture[str]
) -> None:
    url = server.database("grouped")
    department = Department(url)
    department.make_ready()
    pools = [SharedPool(TEXT, runs_of(f"c{at}", at, each=1 + at % 3, g=9.81 + 0.02 * at)) for at in range(5)]
    unknown = msgspec.structs.replace(pools[1].runs[3], findings={"period": SharedNumber(1.7, None, "s")})
    pools[1] = SharedPool(TEXT, (*pools[1].runs[:3], unknown, *pools[1].runs[4:]))
    for pool in pools:
        department.send(pool, PLAN.name)
    later = msgspec.structs.replace(pools[2].runs[4], aside="bumped", sent_at="2026-11-25T08:00:00")
    department.send(SharedPool(TEXT, (later,)), PLAN.name)
    whole = pooled_together(department.pool_of(PLAN.name), []).found
    found = grouped_by_server(department, PLAN.name)
    assert found.left == ()
    assert found.found.runs == sum(len(pool.runs) for pool in pools) - 1
    one_by_one = {each.name: each.result.finding for each in whole.classes if each.result is not None}
    assert set(found.found.schools) == set(one_by_one)
    for name, alone in one_by_one.items():
        grouped = found.found.schools[name]
        assert grouped is not None
        assert (grouped.value, grouped.u) == pytest.approx((alone.value, alone.u), rel=1e-9), name
    assert found.found.finding.value == pytest.approx(whole.finding.value, rel=1e-9)
    assert found.found.between == pytest.approx(whole.between, rel=1e-6)
    server.sql("UPDATE bench_told SET place = NULL WHERE run LIKE 'c4-%'", "grouped")
    assert main(["pool", "--from", url, "--plan", PLAN.name, "--grouped"]) == 0
    said = capsys.readouterr().out
    assert "send them again" in said
    assert "4 classes" in said
    assert main(["pool", "--from", url, "--plan", PLAN.name, "--grouped", "--json"]) == 0
    assert len(json.loads(capsys.readouterr().out)["classes"]) == 4
    server.sql(
        "ALTER TABLE bench_told DROP COLUMN place, DROP COLUMN x, DROP COLUMN u_x, DROP COLUMN y, DROP COLUMN u_y, DROP COLUMN shared_y; DELETE FROM bench_schema; INSERT INTO bench_schema VALUES (2)",
        "grouped",
    )
    with pytest.raises(PoolTrouble, match="make-ready"):
        department.send(pools[0], PLAN.name)
    assert department.make_ready() == VERSION
    assert len(department.pool_of(PLAN.name).runs) == sum(len(pool.runs) for pool in pools), (
        "an older version's runs stay"
    )
    assert grouped_by_server(department, PLAN.name).found.runs == 0
    server.sql("UPDATE bench_told SET digest = 'of an older program ' || id", "grouped")
    assert sum(department.send(pool, PLAN.name) for pool in pools) == sum(len(pool.runs) for pool in pools)
    assert sum(department.send(pool, PLAN.name) for pool in pools) == 0
    assert len(grouped_by_server(department, PLAN.name).found.schools) == 5, "sent again, they stand where they do"
    department.close()


def test_packages_carry_a_pool_without_names_of_people_and_merge_once(books: list[Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:  # fmt: skip
    lesson = OpenLesson.open(books[0], readonly=True)
    own = shared_pool(lesson.store)
    package = keep_package(own, tmp_path / "ours")
    assert package.suffix == ".benchpool"
    with pytest.raises(FileTrouble, match="there already"):
        keep_package(own, package)
    assert pool_from(package) == own
    assert lesson.store.class_name not in package.read_text("utf-8"), "nobody is named"
    local = lesson.pooling.class_result()
    lesson.close()
    twice = pooled_together(own, [("itself", own)]).found
    assert len(twice.whole.points) == len(own.runs), "the same run never twice"
    assert twice.whole.finding == local.finding
    assert pooled_together(own, []).found.whole.finding == local.finding
    copy = tmp_path / "copy.benchbook"
    copy.write_bytes(books[0].read_bytes())
    assert pool_from(copy) == own, "a copy of the book is the same class with the same runs"
    assert main(["pool", str(books[1]), "--with", str(package), str(copy)]) == 0
    said = capsys.readouterr().out
    assert "mean of 2 classes: " in said
    assert said.count("6 groups, 6 runs") == 2
    changed = msgspec.structs.replace(own, runs=(msgspec.structs.replace(own.runs[0], findings={}, sent_at="2030-01-01T00:00:00"), *own.runs[1:]))  # fmt: skip
    assert "is told in two ways: as it was sent 2030" in pooled_together(own, [("x", changed)]).found.told[0]
    other = SharedPool(TEXT, runs_of("c", 1))
    assert "finds something else" in pooled_together(own, [("x", other)]).left[0]
    for text, words in (("{}", "no pool"), ('{"plan": "", "runs": [], "version": 9}', "newer version"), (package.read_text()[:900], "only part of one")):  # fmt: skip
        (tmp_path / "bad.benchpool").write_text(text)
        with pytest.raises(FileTrouble, match=words):
            pool_from(tmp_path / "bad.benchpool")


def test_units_are_those_of_the_plan_and_aliases_are_told_apart() -> None:
    own = SharedPool(TEXT, runs_of("a", 1))
    in_cm = tuple(
        msgspec.structs.replace(each, conditions={"length": SharedNumber(each.conditions["length"].value * 100, 0.2, "cm")}, findings={"period": SharedNumber(each.findings["period"].value * 1000, 2.0, "ms")})
        for each in runs_of("b", 2)
    )  # fmt: skip
    strange = (
        msgspec.structs.replace(
            runs_of("b", 2)[0], id="odd", number=9, conditions={"length": SharedNumber(5.0, 0.1, "kg")}
        ),
    )
    found = pooled_together(own, [("b", SharedPool(TEXT, in_cm + strange))]).found
    rows = [row for each in found.classes for row in each.rows]
    assert len(rows) == 24
    assert {row.conditions["length"].unit for row in rows} == {"m"}
    assert {row.findings["period"].unit for row in rows} == {"s"}
    assert {row.alias for row in rows} >= {"Group0, class 1", "Group0, class 2"}
    assert "Group0 run 9 is left out" in found.told[0]
    assert found.finding.value == pytest.approx(9.81, abs=4 * found.finding.u)


def test_the_mean_of_classes_holds_as_often_as_it_says() -> None:
    """Classes that scatter by more than they state: 95% intervals of their mean."""
    from common_bench.model.measured import Measured
    from common_bench.model.uncertainty import coverage_factor

    dice, held, told = np.random.default_rng(4), 0, []
    for _ in range(400):
        found = [Measured(9.81 + dice.normal(0, 0.05) + dice.normal(0, 0.02), 0.02, "m/s^2") for _ in range(8)]
        mean, between = mean_of_classes(found)
        held += abs(mean.value - 9.81) < coverage_factor(mean.dof) * mean.u
        told.append(between**2)
    assert 0.92 < held / 400 < 0.98
    assert np.mean(told) ** 0.5 == pytest.approx(0.05, rel=0.1)
    assert mean_of_classes(found[:1])[0] is None
    assert plan_id("a") != plan_id("b")


def test_pools_are_looked_at_together_in_the_window_and_nothing_of_them_is_kept(
    books: list[Path], server: Postgres, tmp_path: Path, alone: Callable[[OpenLesson], Desk]
) -> None:
    book = tmp_path / "ours.benchbook"
    book.write_bytes(books[0].read_bytes())
    made = alone(OpenLesson.open(book))
    made.press("6")
    pool, before = made.window.stage, made.lesson.book.rows("pooled")
    assert isinstance(pool, PoolStage)
    view = pool.together
    if not made.lesson.store.pool_open:
        made.press("L")
        assert not view.isVisible(), "what is sealed is not put beside others"
        made.press("O")
    made.press("L")
    made.until(lambda: view.found is not None, "this class by itself")
    made.see("a mean of classes needs two", pool)
    view.add([books[1]])
    made.until(lambda: view.classes.rowCount() == 2, "another class's book")
    together = pooled_together(pool_from(books[0]), [("b", pool_from(books[1]))]).found
    assert together.finding is not None
    made.see(written(together.finding.value, together.finding.u, together.finding.unit), pool)
    assert [view.classes.item(row, 1).text() for row in range(2)] == ["6", "6"]
    assert uncut(made, "pools together") == []
    url = server.database("desk")
    department = Department(url)
    department.make_ready()
    third = msgspec.structs.replace(pool_from(books[1]), runs=tuple(msgspec.structs.replace(each, class_id="third", id=f"3-{each.id}") for each in pool_from(books[1]).runs))  # fmt: skip
    department.send(third, made.lesson.store.plan.name)
    department.close()
    view.department.click()
    made.answer(url)
    made.until(lambda: view.classes.rowCount() == 3, "a department's")
    view.add([tmp_path / "nothing.benchpool"])
    made.see("nothing.benchpool", made.window)
    assert view.classes.rowCount() == 3
    made.press("L")
    made.until(lambda: not view.isVisible(), "this lesson alone again")
    assert made.lesson.book.rows("pooled") == before
    next_one = begin_lesson(made.lesson.book, made.lesson.store.plan)
    assert PoolsTogether(LessonStore(made.lesson.book, next_one)).lessons() == [made.lesson.store.id]
    with pytest.raises(PoolTrouble, match="sealed"):
        PoolsTogether(LessonStore(made.lesson.book, next_one)).own()
    (source,) = PoolsTogether(LessonStore(made.lesson.book, next_one)).of_lessons()()
    assert source[1] == shared_pool(made.lesson.store)


def test_a_pool_is_opened_one_group_after_another_or_values_first(
    books: list[Path], tmp_path: Path, alone: Callable[[OpenLesson], Desk], monkeypatch: pytest.MonkeyPatch
) -> None:
    book = tmp_path / "ours.benchbook"
    book.write_bytes(books[0].read_bytes())
    made = alone(OpenLesson.open(book))
    made.press("6")
    pool, store = made.window.stage, made.lesson.store
    assert isinstance(pool, PoolStage)
    if store.pool_open:
        made.press("O")
    aliases = [group.alias for group in store.groups]
    told = str(store.pool_rows()[0].findings[store.plan.findings[0]])
    assert told not in made.seen(pool)

    def listed() -> list[str]:
        shown = pool.table if pool.table.isVisible() else pool.findings
        return [shown.item(row, 0).text() for row in range(shown.rowCount())] if shown.isVisible() else []

    made.hub.select(store.groups[2].id)
    made.press("G")
    made.until(lambda: set(listed()) == {aliases[2]}, "the chosen bench is shown first")
    made.press("G", "G")
    made.until(
        lambda: set(listed()) == {aliases[0], aliases[1], aliases[2]}, "then those that are left, in their order"
    )
    assert not store.pool_open
    made.see("3 of 6 shown", made.window)
    made.undo()
    made.until(lambda: set(listed()) == {aliases[0], aliases[2]}, "taken back, the last one is hidden again")
    with pytest.raises(PoolTrouble, match="shown already"):
        made.lesson.pooling.show_group(store.groups[0].id)
    made.press("V")
    made.until(lambda: len(listed()) >= 6, "all values")
    assert not set(aliases) & set(listed()), "and nobody's name"
    assert all("set aside" not in words and alias not in words for alias in aliases for words in listed())
    made.press("O")
    made.until(lambda: set(listed()) == set(aliases), "whose they are")
    monkeypatch.setattr(class_drawing, "MANY", 4)
    made.lesson.planning.change_plan(msgspec.structs.replace(store.plan, graph=None), "No class graph")
    pool.refresh()
    (bars,) = [each for each in pool.graph.getPlotItem().items if isinstance(each, pg.BarGraphItem)]
    long = np.asarray(bars.opts["x1"]) - np.asarray(bars.opts["x0"])
    values = [point.y.value for point in pool._result().points if not point.aside]
    edges = [*bars.opts["y0"], bars.opts["y1"][-1]]
    assert long / long.max() == pytest.approx(np.histogram(values, edges)[0] / np.histogram(values, edges)[0].max())
    assert np.histogram(values, edges)[0].sum() == len(values)
    with pytest.raises(PoolTrouble, match="open to all"):
        made.lesson.pooling.show_group(store.groups[0].id)
    made.press("O")
    assert store.pool_state == 0
    assert listed() == []
    assert PoolsTogether(LessonStore(made.lesson.book, begin_lesson(made.lesson.book, store.plan))).lessons() == []
