"""Several lessons in one book, a class that changes, kits that are absent: what comes along and what belongs to its lesson."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from common_bench.book.book import Book
from common_bench.lesson.known_books import forget, known_books, remember
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.lessons import book_entry
from common_bench.lesson.register import MOST_GROUPS, aliases_from
from common_bench.lesson.removing import remove_lesson_of
from common_bench.lesson.words import stated_offers
from common_bench.links.discovery import plugged_in
from common_bench.model.bench import SHAPES, Emblem
from common_bench.model.plan import Condition, Plan, SensorPlan
from common_bench.model.plan_file import shipped_plan
from common_bench.model.trouble import BookTrouble, PlanTrouble, Trouble
from common_bench.standins.classes import ALIASES
from common_bench.standins.control import StandInProcess
from waiting import SPEED, Class


@pytest.fixture
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A home folder in which nothing was ever opened."""
    for name, at in (("HOME", "home"), ("XDG_DATA_HOME", "home/data"), ("XDG_CONFIG_HOME", "home/config")):
        monkeypatch.setenv(name, str(tmp_path / at))
    return tmp_path / "home"


def test_a_lesson_that_is_removed_for_good_is_in_no_byte_and_the_others_are_as_they_were(
    school: Callable[..., Class], tmp_path: Path
) -> None:
    made = school(count=2)
    first, path = made.lesson.store.id, made.lesson.book.path
    made.calibrate()
    made.record(1.0)
    run = made.lesson.store.kept_runs()[0]
    made.lesson.recording.set_note(run.id, "Zaphirah slipped")
    made.lesson.close()
    lesson = OpenLesson.begin(path, shipped_plan("swinging-bottles"), origin="swinging-bottles", speed=SPEED)
    again = Class(lesson, made.kits)
    lesson.roster.appear([p for p in plugged_in(made.kits.folder) if p.stand_in and not p.trouble])
    again.until(
        lambda: all(not lesson.roster.why_not_ready(g) for g in again.group.values()), "the kits are heard again"
    )
    again.record(1.0)
    kept = lesson.store.kept_runs()
    before = [lesson.working_up.replayed(each.id).raw["load"].tolist() for each in kept]
    lesson.close()
    book = Book.open(path)
    sessions = {row["session"] for row in book.rows("run") if row["id"] == run.id}
    sent = [row["bytes"] for row in book.rows("journal") if row["session"] in sessions and len(row["bytes"]) > 40]
    book.close()
    assert sent
    assert "removed for good: 2 runs" in remove_lesson_of(path, first)
    held = path.read_bytes()
    assert b"Zaphirah" not in held
    assert not any(bytes(each) in held for each in sent)
    book = Book.open(path)
    assert book.check() == []
    book.close()
    left = OpenLesson.open(path, readonly=True)
    try:
        assert [each.id for each in left.store.kept_runs()] == [each.id for each in kept]
        assert [left.working_up.replayed(each.id).raw["load"].tolist() for each in kept] == before
    finally:
        left.close()


def test_the_next_lesson_takes_groups_kits_and_calibrations_along_and_leaves_runs_and_pool(
    school: Callable[..., Class], stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    made = school(count=3)
    first = made.lesson.store.id
    made.calibrate()
    made.record(1.0)
    kits_before = {g.alias: made.lesson.store.kit_of(g.id) for g in made.lesson.store.groups}
    made.lesson.close()
    made.kits.order(kits=["Basalt"], fault="unplug")
    more = stand_ins("--seed", "4", count=1, world_speed=SPEED)

    lesson = OpenLesson.begin(
        made.lesson.book.path, shipped_plan("swinging-bottles"), origin="swinging-bottles", speed=SPEED
    )
    try:
        store, roster = lesson.store, lesson.roster
        assert store.id != first
        assert [g.alias for g in store.groups] == ["Basalt", "Chalk", "Flint"]
        assert {g.alias: store.kit_of(g.id) for g in store.groups} == kits_before
        assert store.runs() == []
        assert store.pool_rows() == []
        assert store.points(kits_before["Chalk"] or 0, "load") == []
        assert all(store.calibration(kit or 0, "load") is not None for kit in kits_before.values())
        again = Class(lesson, made.kits)
        roster.appear([p for p in plugged_in(made.kits.folder) if p.stand_in and not p.trouble])
        # One who is new is there in the place of one who is absent: it is another kit, under another port.
        new = [p for p in plugged_in(more.folder) if p.stand_in]
        made_new = [roster.hear(_renamed(port)) for port in new]
        again.until(
            lambda: sum(not roster.why_not_ready(g) for g in again.group.values()) == 2, "two of three are heard"
        )
        assert roster.is_absent(kits_before["Basalt"])
        roster.give_kits_in_order(made_new)
        assert store.kit_of(again.group["Basalt"]) == made_new[0]
        assert [store.kit_of(again.group[a]) for a in ("Chalk", "Flint")] == [
            kits_before["Chalk"],
            kits_before["Flint"],
        ]
        again.heard()
        again.record(1.0)
        assert {run.number for run in store.runs()} == {1}
        before = OpenLesson.open(lesson.book.path, first, readonly=True)
        assert len(before.store.kept_runs()) == 3
        before.close()
        card = book_entry(lesson.book.path)
        assert [(each.id == first, each.runs) for each in card.lessons] == [(False, 3), (True, 3)]
        assert card.name == "9B"
    finally:
        lesson.close()


def _renamed(port):  # type: ignore[no-untyped-def]
    from msgspec.structs import replace

    return replace(port, identity="another-kit", name="another kit")


def test_a_kit_that_was_added_by_address_is_heard_again_in_the_next_lesson_and_takes_no_bench(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    kits = stand_ins("--over", "tcp", count=2, world_speed=SPEED)
    link = kits.notice.ports[0].link
    plan = shipped_plan("swinging-bottles")
    lesson = OpenLesson.make(tmp_path / "tcp.benchbook", plan, "9B", ["Basalt", "Chalk"], speed=SPEED)
    kit = lesson.roster.hear(_at(link), added=True)
    lesson.roster.give_kit(kit, lesson.store.groups[1].id)
    lesson.close()
    lesson = OpenLesson.begin(tmp_path / "tcp.benchbook", plan, speed=SPEED)
    try:
        assert lesson.roster.hear_added() == [kit]
        assert lesson.roster.hear_added() == [], "once"
        other = lesson.roster.hear(_at(kits.notice.ports[1].link), added=True)
        assert [lesson.store.kit_of(g.id) for g in lesson.store.groups] == [None, kit]
        lesson.roster.give_kits_in_order([kit, other])
        assert [lesson.store.kit_of(g.id) for g in lesson.store.groups] == [other, kit]
    finally:
        lesson.close()


def _at(link: str):  # type: ignore[no-untyped-def]
    from common_bench.links.address import read_address
    from common_bench.model.bench import Port

    return Port(link, link, read_address(link).name)


WORDS = st.text(max_size=12)
ACTS = st.lists(
    st.tuples(
        st.sampled_from(["add", "remove", "rename", "emblem", "initials", "class", "undo"]), st.integers(0, 5), WORDS
    ),
    max_size=12,
)


@settings(max_examples=25)
@given(acts=ACTS)
def test_a_class_changes_as_it_likes_and_no_two_groups_are_alike(
    tmp_path_factory: pytest.TempPathFactory, acts: list[tuple[str, int, str]]
) -> None:
    path = tmp_path_factory.mktemp("class") / "c.benchbook"
    lesson = OpenLesson.make(path, Plan("Any"), "9B", ["Basalt", "Chalk"])
    try:
        done, said = [], []
        lesson.changes.watchers.append(lambda change: done.append(change) if change is not None else None)
        for act, at, text in acts:
            groups = lesson.store.groups
            group = groups[at % len(groups)].id if groups else 0
            try:
                if act == "add":
                    lesson.register.add_groups([text])
                elif act == "remove" and groups:
                    lesson.register.remove_group(group)
                elif act == "rename" and groups:
                    lesson.register.rename_group(group, text)
                elif act == "emblem" and groups:
                    lesson.register.set_emblem(group, lesson.register.next_emblem(group))
                elif act == "initials" and groups:
                    lesson.register.set_initials(group, text)
                elif act == "class":
                    lesson.register.rename_class(text)
                elif act == "undo" and done:
                    lesson.changes.undo(done.pop())
            except Trouble as trouble:
                said.append(trouble.sentence)
            store = lesson.store
            names = [each.alias.lower() for each in store.all_groups]
            assert len(set(names)) == len(names)
            assert all(name.strip() for name in names)
            assert len({each.emblem for each in store.groups}) == len(store.groups)
            assert store.class_name
            for each in store.groups:
                assert store.kit_of(each.id) is None
        assert all(sentence.endswith(".") for sentence in said)
        shown = [(each.alias, each.emblem, each.initials) for each in lesson.store.groups]
    finally:
        lesson.close()
    again = OpenLesson.open(path, readonly=True)
    assert [(each.alias, each.emblem, each.initials) for each in again.store.groups] == shown
    again.close()


def test_a_group_that_leaves_keeps_its_runs_and_comes_back_under_its_name(school: Callable[..., Class]) -> None:
    made = school(count=2)
    made.record(1.0)
    register, store = made.lesson.register, made.lesson.store
    chalk = made.group["Chalk"]
    made.lesson.recording.begin_runs([chalk])
    with pytest.raises(PlanTrouble, match="recording"):
        made.until(lambda: register.remove_group(chalk) if made.lesson.roster.recording(chalk) else False, "it records")
    made.lesson.recording.end_runs([chalk])
    made.until(lambda: len(store.kept_runs()) == 3, "it is kept")
    register.remove_group(chalk)
    assert [g.alias for g in store.groups] == ["Basalt"]
    assert len(store.kept_runs(chalk)) == 2
    assert store.group(chalk).gone
    register.add_groups(["chalk"])
    assert [g.id for g in store.groups] == [made.group["Basalt"], chalk]
    assert store.kit_of(chalk) is None
    assert store.group(chalk).emblem.shape in SHAPES
    with pytest.raises(PlanTrouble):
        register.set_emblem(chalk, store.group(made.group["Basalt"]).emblem)
    with pytest.raises(PlanTrouble):
        register.set_emblem(chalk, Emblem("circle", "#123456"))


def test_thirty_two_groups_are_a_class_and_one_more_is_not(tmp_path: Path) -> None:
    lesson = OpenLesson.make(tmp_path / "c.benchbook", Plan("Any"), "9B", aliases_from("32", ALIASES))
    try:
        assert len({group.emblem for group in lesson.store.groups}) == MOST_GROUPS
        with pytest.raises(PlanTrouble, match="32 groups"):
            lesson.register.add_groups(["One more"])
    finally:
        lesson.close()
    for text in ("0", "33", ",".join(f"g{n}" for n in range(40))):
        with pytest.raises(PlanTrouble):
            aliases_from(text, ALIASES)
    assert aliases_from(" Basalt, Chalk ,,Basalt", ALIASES) == ["Basalt", "Chalk"]


def test_conditions_in_words_and_from_a_list_and_for_the_whole_class(tmp_path: Path) -> None:
    conditions = (
        Condition("soil", kind="choice", choices=("sand", "clay")), Condition("sky", kind="words"),
        Condition("room", "°C", 0.5, same_for_all=True),
    )  # fmt: skip
    lesson = OpenLesson.make(tmp_path / "c.benchbook", Plan("Soils", conditions=conditions), "9B", ["Basalt", "Chalk"])
    try:
        basalt, chalk = (group.id for group in lesson.store.groups)
        change = lesson.planning.set_condition(basalt, "soil", "Sand")
        lesson.planning.set_condition(basalt, "sky", "grey,  with wind")
        lesson.planning.set_condition(basalt, "room", "21 °C")
        stated = lesson.store.stated(basalt)
        assert stated_offers(conditions[0]) == ["sand", "clay"]
        assert stated_offers(Condition("length", "m", values=(0.5, 1.0))) == ["0.5 m", "1 m"]
        assert (stated["soil"], stated["sky"], str(stated["room"])) == ("sand", "grey, with wind", "21.0 ± 0.5 °C")
        assert set(lesson.store.stated(chalk)) == {"room"}
        for text, code in (("gravel", "no-such-entry"), ("", "no-such-entry")):
            with pytest.raises(PlanTrouble) as refused:
                lesson.planning.set_condition(basalt, "soil", text or " ")
            assert refused.value.code in (code, "condition-empty")
        lesson.changes.undo(change)
        assert "soil" not in lesson.store.stated(basalt)
    finally:
        lesson.close()


def test_another_unit_or_channel_in_the_plan_is_followed_at_once_and_stops_no_listening(
    school: Callable[..., Class],
) -> None:
    made = school(count=2)
    lesson, basalt = made.lesson, made.group["Basalt"]

    def measured(unit: str, channel: str = "load", curve: str = "as it comes") -> None:
        plan = Plan(
            "Units",
            sensors=(SensorPlan(channel, "x", unit, curve),),
            workings=("y = x", "m = mean of y"),
            findings=("m",),
        )
        lesson.planning.change_plan(plan, f"In {unit}")

    told = []
    for unit, channel in (
        ("", "load"),
        ("lx", "load"),
        ("°C", "temp"),
        ("N", "load"),
        ("m/s²", "nothing"),
        ("V", "load"),
    ):
        measured(unit, channel)
        end = lesson.engine.now() + 1.0
        made.until(
            lambda end=end: (
                told.extend((lesson.roster.snapshot.trouble and [lesson.roster.snapshot.trouble]) or [])
                or lesson.engine.now() > end
            ),
            "time goes by",
        )
        latest = lesson.roster.state(basalt).live.latest("y")  # type: ignore[union-attr]
        assert (latest is not None and latest.value == latest.value and latest.unit == unit) == (
            channel != "nothing"
        ), (unit, channel)
    assert told == []
    measured("kg", curve="straight line")
    made.world(1.0)
    latest = lesson.roster.state(basalt).live.latest("y")  # type: ignore[union-attr]
    assert latest is None or latest.value != latest.value, "not calibrated yet: unknown"
    assert told == []


def test_the_books_that_were_opened_are_known_newest_first_and_those_that_have_gone_are_not(
    home: Path, tmp_path: Path
) -> None:
    assert known_books() == []
    books = []
    for name in ("a", "b"):
        OpenLesson.make(tmp_path / f"{name}.benchbook", Plan("Any"), name, ["Basalt"]).close()
        books.append(tmp_path / f"{name}.benchbook")
        remember(books[-1], 1)
    assert [Path(each.path).stem for each in known_books()] == ["b", "a"]
    remember(books[0])
    assert [Path(each.path).stem for each in known_books()] == ["a", "b"]
    forget(books[1])
    books[0].rename(tmp_path / "moved.benchbook")
    assert known_books() == []
    assert book_entry(books[0]).trouble is not None
    (tmp_path / "no.benchbook").write_text("nothing")
    assert book_entry(tmp_path / "no.benchbook").trouble is not None
    with pytest.raises(BookTrouble):
        OpenLesson.open(tmp_path / "moved.benchbook", 77)
    assert Book.open(tmp_path / "moved.benchbook").check() == []
