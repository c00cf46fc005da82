"""Record in the window: rules that wait, one bench closely, point by point, moments and notes, with keys and by what is seen."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QMenu

from common_bench.desk.look.labels import NumberLabel
from common_bench.lesson.plan_details import with_detail
from common_bench.model.plan import Condition, Plan, RulePlan, SensorPlan
from cuts import cut_texts
from person import Desk, type_into

Made = Callable[..., Desk]
SPRINGS = "stretching-springs"


def uncut(made: Desk, when: str, *, themes: bool = False) -> list[str]:
    """Texts of the stage that are cut, in the other theme too where asked for, and what stands over it that nobody opened."""
    found = [f"{when}: a menu is open" for menu in made.window.findChildren(QMenu) if menu.isVisible()]
    for turned in (False, True) if themes else (False,):
        theme = made.change_theme() if turned else "as it is"
        for _ in range(8):  # until it has been laid out
            QTest.qWait(60)
            cut = cut_texts(made.window)
            if not cut:
                break
        found += [f"{when}, {theme}: {each}" for each in cut]
    return found


def test_a_class_takes_points_at_one_key_again_at_another_and_sees_what_comes_of_them(desk: Made) -> None:
    made = desk(speed=8.0, class_name=SPRINGS)
    made.press("4")
    stage, taking = made.window.stage, made.lesson.point_taking
    made.see("Begin first: R", stage)
    made.press("Space")  # begins this bench
    made.until(lambda: made.lesson.roster.recording(made.hub.group), "it records")
    made.press("R", "R")
    made.until(lambda: len(stage.acts.busy()) == 6, "all record")
    groups = [made.group[alias] for alias in ("Basalt", "Chalk")]
    for value in (0.0, 50.0, 100.0):
        made.hang(f"{value:g} g", settle=3.0)

        def taken(value: float = value) -> bool:
            made.press("Space")
            return all(taking.at(group, value) is not None for group in groups)

        made.until(taken, f"{value:g} g is taken")
    made.see("stiffness = ", stage)
    made.see("force (N) against stretch (mm)", stage)
    assert stage.points.table.item(1, 0).text() == "50 g"
    assert stage.points.class_table.item(0, 1).text().startswith("●●●○")
    assert uncut(made, "points", themes=True) == []
    stage = made.window.stage
    before = taking.next_value(made.hub.group)
    made.press("Backspace")
    made.see("is set aside; take it again", made.window)
    assert taking.next_value(made.hub.group) == 100.0
    made.undo()
    assert taking.next_value(made.hub.group) == before
    made.press("G")
    made.see("Class wall (G)" if stage._view == 1 else "One graph (G)", stage)
    made.press("R")
    made.until(lambda: len(made.lesson.store.kept_runs()) == 7, "the runs are kept, the first of one bench too")
    made.press("5")
    made.see("stiffness = ", made.window.stage)


def test_a_run_that_waits_is_seen_on_every_tile_called_off_and_watched_closely(desk: Made) -> None:
    made = desk()
    plan = with_detail(made.lesson.store.plan, 0, "raw_unit", "counts")
    rule = RulePlan(begins="when load rises through 9e6 counts", before=1.0, ends="after 3 pass")
    made.lesson.planning.change_plan(msgspec.structs.replace(plan, rule=rule), "Another rule")
    made.press("4", "R")
    stage = made.window.stage
    made.see("waits for 9e6 counts", stage)
    made.see("Call off 6 runs (R)", stage)
    assert uncut(made, "waiting") == []
    for _ in range(2):  # with larger type there is no room for the rule beside the actions
        worn, stage = made.change_theme(), made.window.stage
        words = made.lesson.store.plan.rule.words
        made.until(lambda words=words, stage=stage: [each.text() for each in (stage.rule, stage.rule_under) if each.isVisible()] == [words], "the rule is told once")  # type: ignore[misc]  # fmt: skip
        assert stage.rule_under.isVisible() or worn == "paper"
        assert not (stage.rule_under.isVisible() and stage.rule_under.is_shortened)
        if stage.rule.isVisible():
            assert stage.rule.heightForWidth(stage.rule.width()) < 3 * stage.rule.fontMetrics().lineSpacing()
    stage = made.window.stage
    made.press("R")
    made.see("no longer.", made.window)
    made.until(lambda: not stage.acts.busy(), "nothing waits")
    made.lesson.planning.change_plan(msgspec.structs.replace(plan, rule=RulePlan()), "By hand")
    made.press("R", "B")
    made.until(lambda: len(stage.acts.busy()) == 6, "all record")
    made.world(4)
    made.see("tension now", stage)
    made.see("ends by hand", stage)
    assert uncut(made, "one bench", themes=True) == []
    stage = made.window.stage
    made.until(lambda: stage.one.traces, "it is built again")
    low, high = stage.one.traces[0].getViewBox().viewRange()[0]
    made.press("+")
    made.until(lambda: not stage.one.follows, "it stands still")
    shown = stage.one.traces[0].getViewBox().viewRange()[0]
    assert shown[1] - shown[0] == pytest.approx((high - low) / 2, rel=0.05)
    made.see("moved: N follows the time again", stage)
    made.press(",", "N")
    made.until(lambda: stage.one.traces[0].getViewBox().viewRange()[0][1] > shown[1], "it follows again")
    made.press("A")
    made.answer("the bell")
    made.see("Marked on 6 runs: the bell.", made.window)
    made.see("the bell", stage.one)
    made.press("R")
    made.until(lambda: len(made.lesson.store.kept_runs()) == 6, "the runs are kept")
    assert all(run.lacks == ("tension is not calibrated",) for run in made.lesson.store.kept_runs())
    made.press("5")
    work = made.window.stage
    made.see("the bell", work)
    run = made.lesson.store.kept_runs(made.hub.group)[0]
    work.marked.item(0, 1).setText("the school bell")
    made.until(lambda: made.lesson.store.moments(run.id)[0].text == "the school bell", "other words")
    work.marked.item(0, 1).setText("")
    made.until(lambda: not made.lesson.store.moments(run.id), "it is taken off")
    made.undo()
    assert made.lesson.store.moments(run.id)[0].text == "the school bell"
    type_into(work.note, "string slipped once")
    assert made.lesson.store.run(run.id).note == "string slipped once"
    made.press("Y")
    made.see("practice", work)
    assert len(made.lesson.store.kept_runs()) == 5
    made.press("Y")
    assert len(made.lesson.store.kept_runs()) == 6


def test_a_number_takes_the_room_of_its_characters_whatever_stood_there_before_and_leaves_the_card_alone() -> None:
    number, alone = (NumberLabel("", "#FFFFFF") for _ in range(2))
    for each in (number, alone):
        each.setStyleSheet("font-size: 32px; font-weight: 650;")
        each.show()
    QTest.qWait(20)
    for text in ("—", "355 057", "2.157", "10 067", "−0.1", "0.01", "−0.2", "9", "12 345 678", "2.157"):
        number.setText(text)
        alone.setMinimumWidth(0)
        alone.setText("")
        alone.setText(text)
        assert number.minimumWidth() == alone.minimumWidth() == number.sizeHint().width(), text
        assert number.minimumWidth() >= number.fontMetrics().horizontalAdvance(text)
    assert len({number.fontMetrics().horizontalAdvance(digit) for digit in "0123456789"}) == 1
    assert number.minimumWidth() < number.fontMetrics().horizontalAdvance("12 345 678")
    fresh = NumberLabel("9.876", "#FFFFFF")
    for ink in ("red", "blue"):
        for each in (number, fresh):
            each.setStyleSheet(f"font-size: 32px; color: {ink};")
        assert number.testAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        fresh.resize(number.size())
        seen = []
        for text in ("1.234", "9.876"):  # of which digits alone are others
            number.setText(text)
            seen.append(number.grab().toImage())
        assert seen[1] == fresh.grab().toImage() != seen[0]
        inks = {seen[1].pixelColor(x, y).name() for x in range(seen[1].width()) for y in range(seen[1].height())}
        assert {"#ffffff", {"red": "#ff0000", "blue": "#0000ff"}[ink]} <= inks
    for each in (number, alone, fresh):
        each.close()


@pytest.mark.parametrize(
    "name", ["h", "temperature", "temperature of the water", "temperature of the water beside the tablet"]
)
def test_every_alias_is_read_on_the_wall_whatever_is_not_set_yet(desk: Made, name: str) -> None:
    """On all tiles, not only on those that were asked first."""
    made = desk(
        "--count",
        "6",
        plan=Plan(
            "Cooling",
            sensors=(SensorPlan("load", "load", "N", curve="as-it-comes"),),
            conditions=(Condition(name, "°C"),),
        ),
    )
    made.until(lambda: all(kit.can_record for kit in made.lesson.roster.kits.values()), "all are heard")
    made.press("4")
    stage = made.window.stage
    made.see("not set", stage)
    for theme in ("as it is", "the other"):
        cut = uncut(made, f"{name}, {theme}")
        assert [each for each in cut if len(name) < 20 or name not in each] == []
        made.until(
            lambda: all(tile.conditions[name].isVisible() for tile in made.window.stage.tiles), "it can be typed there"
        )
        made.change_theme()
