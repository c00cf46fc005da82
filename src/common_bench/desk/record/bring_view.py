"""Files that kits logged on their own, looked at before anything is kept: lines, columns, the trace, when it was and whose it is."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import Future
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QFileDialog, QWidget

from common_bench.desk.graphs.plots import Graph
from common_bench.desk.look.labels import ShortLabel, label, rich
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import (
    Card,
    Cell,
    Field,
    Table,
    button,
    choice,
    hbox,
    names_choice,
    say,
    scrolled,
    shortened,
    vbox,
)
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.record.bring_beside import BesideRun
from common_bench.desk.record.column_colours import coloured_lines, tone_of
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import Keys
from common_bench.exchange.logged import LONG
from common_bench.exchange.tables import with_unit
from common_bench.lesson.bringing_in import KeptFile
from common_bench.lesson.brought_calibrations import calibration_words
from common_bench.lesson.brought_pictures import (
    HeldAgainst,
    held_against,
    held_against_run,
    picture_of_column,
    with_pictures,
)
from common_bench.lesson.brought_words import Correction, Preview, Role, file_words, words_of_file
from common_bench.model.long_task import LongTask
from common_bench.model.run import Run
from common_bench.model.trouble import FileTrouble
from common_bench.record.traces import thinned

ENDINGS = ("csv", "txt", "tsv", "log", "dat", "xlsx", "ods", "senml", "json", "tape")
LOGGED_FILES = " ".join(f"*.{each} *.{each.upper()}" for each in ENDINGS)  # cards shout
FIRST_LINES, MOST_LINE = 6, 90  # lines of the file that are shown, characters of each
ROLES: dict[Role, str] = {"clock": "the kit's clock", "channel": "a channel", "ignored": "left out"}
AS_TOLD, WRITTEN, BEGAN, ENDED, DURATIONS = "as the file says", "ended when last written", "began when I say", "ended when I say", "only durations count"  # fmt: skip
AS_RUN, MOST_BESIDE = "as seen in ", 6  # runs that a file may be held against
MOST_SHADED = 60  # gaps that are shown
POLL = 50  # ms between looks whether a worker has done
Work = Callable[[LongTask], Any]
Then = Callable[[Any], object]


class BringView(QWidget):
    """Guarantees that nothing is kept before the button is pressed, and that each file is one step that can be taken back."""

    def __init__(self, hub: Hub, left: Callable[[], object], chosen: Callable[[Sequence[Path]], object]) -> None:
        """left: called when all files have come in, or somebody has left; chosen: told of files that were chosen."""
        super().__init__()
        self._hub, self._left, self._chosen = hub, left, chosen
        self._waiting: list[Preview] = []
        self._refused = ""  # why files that were chosen last could not be read
        self._corrections: dict[int, Correction] = {}
        self._beside: list[Run] = []  # runs that were recorded live, which may have seen the same
        self.preview: Preview | None = None
        self._answer: Future[Any] | None = None  # what a worker is asked for
        self._then: Then = lambda _: None
        self._progress, self._doing = LongTask(), ""
        self._polls = QTimer(self)
        self._polls.timeout.connect(self._poll)
        self.title = label("", "title")
        self.files = ShortLabel("", "soft")
        self.more = button("Choose files…", self.choose_files)
        self.away = button("Leave (Esc)", self.leave)
        self.main = button("", self.bring, role="main")
        head = hbox(self.title, self.files, self.more, self.away, self.main, spacing=10)
        head.setStretch(1, 1)
        self.lines_card, self.lines = Card("As it stands in the file", name=True), rich("", "mono")
        self.lines.setWordWrap(False)
        self.lines_card.add(self.lines)
        self.columns_card = Card("Columns", name=True)
        say(self.columns_card.aside, "type over a name or a unit that is wrong; choose what a column is")
        self.columns = Table(["column", "is", "unit", "values", "note"], left=(0, 1, 2, 4), stretch=4, edit=(0, 1, 2), offered={1: tuple(ROLES.values())})  # fmt: skip
        self.columns.edited.connect(self._correct)
        self.columns.refilled.connect(self._show_columns)
        self.columns.currentCellChanged.connect(lambda row, _, before, __: self._show_when() if row != before else None)
        self.columns_card.add(self.columns)
        self.trace_card, self.graph = Card("What comes in", name=True), Graph()
        self.trace_card.add(self.graph)
        self.when_card = Card("When was this?", name=True)
        self.when_words = label("", "soft", wrap=True)
        self.when, self.moment = choice([]), Field()
        self.moment.setPlaceholderText("2026-11-24 09:40")
        self.when.activated.connect(lambda _: self._show_when())
        self.beside = BesideRun(self.graph, self.when_words, self._draw)
        self.when_card.add(self.when_words, self.when, self.moment, self.beside.field)
        self.whose_card, self.whose = Card("Whose is it?"), names_choice()
        self.calibrated = label("", "soft", wrap=True)
        self.whose_card.add(self.whose, self.calibrated)
        self.whose.currentIndexChanged.connect(lambda _: self._show_whose())
        self.told_card, self.told = Card("What was left out"), label("", wrap=True)
        self.told_card.add(self.told)
        left_side = vbox(self.lines_card, self.columns_card, self.trace_card, spacing=11)
        left_side.setStretch(2, 1)
        right = scrolled(vbox(self.when_card, self.whose_card, self.told_card, None, spacing=11))
        right.setFixedWidth(px(300))
        body = hbox(left_side, right, spacing=11)
        body.setStretch(0, 1)
        column = vbox(head, body, spacing=11)
        column.setStretch(1, 1)
        column.setContentsMargins(0, 0, 0, 0)
        self.setLayout(column)
        self._shown = (self.lines_card, self.columns_card, self.trace_card, right, self.main)

    def keys(self) -> Keys:
        """What keys do while it is shown; in its table Enter is the table's."""
        if not self.main.isVisible() or self.columns.hasFocus():
            return {}
        return {"Return": ("bring in what is shown", self.bring)}

    def choose_files(self) -> None:
        found, _ = QFileDialog.getOpenFileNames(self, "Files from a memory card", str(Path.home()), f"Logged files ({LOGGED_FILES});;All files (*)")  # fmt: skip
        if found:
            self._chosen([Path(each) for each in found])

    def look_at(self, paths: Sequence[Path]) -> bool:
        """Shows the first run of those that can be read, long ones once a worker has read them; whether one can."""
        bringing_in = self._hub.lesson.bringing_in

        def read(progress: LongTask) -> tuple[list[Preview], FileTrouble | None]:
            found, trouble = bringing_in.looked_through(paths, progress)
            return [with_pictures(each) for each in found], trouble

        def show(read: tuple[list[Preview], FileTrouble | None]) -> bool:
            found, trouble = read
            self._hub.messages.mended(self._refused)  # of files that were chosen before
            self._refused = "" if trouble is None else trouble.alone
            if self._refused:
                self._hub.tell(self._refused, "red")
            return self._show_all([bringing_in.recognised(each) for each in found])

        size = sum(path.stat().st_size for path in paths if path.is_file())
        if size <= LONG:
            return show(bringing_in.looked_through(paths))
        names = ", ".join(path.name for path in paths[:3])
        self._later(f"Reading {names} ({size / 1e6:.0f} MB) …", read, lambda read: None if show(read) else self.leave())
        return True

    def _show_all(self, found: list[Preview]) -> bool:
        self.preview, self._waiting = None, found
        return self._next()

    def _later(self, words: str, work: Work, then: Then, otherwise: Callable[[], object] | None = None) -> None:
        """Has a worker do what takes long, and says so; Esc leaves it, and nothing is kept. otherwise: done where it is refused."""
        self.preview, self._otherwise = None, otherwise or self.leave
        say(self.title, words)
        say(self.files, "Esc stops it; nothing is kept")
        for each in self._shown:
            each.hide()
        progress = self._progress = LongTask()
        self._doing = words
        self._answer, self._then = self._hub.lesson.working_up.submit(lambda: work(progress)), then
        self._polls.start(POLL)

    def _poll(self) -> None:
        answer = self._answer
        if answer is None or not answer.done():
            share = self._progress.share
            say(self.title, f"{self._doing} {100 * share:.0f}%" if 0 < share < 1 else self._doing)
            return
        self._polls.stop()
        self._answer = None
        for each in self._shown:
            each.show()
        if not self._hub.try_to(lambda: self._then(answer.result())):
            self._otherwise()

    def _next(self) -> bool:
        """Shows the next run that would come in; whether there is one."""
        if not self._waiting:
            return False
        self._corrections = {}
        self._show(self._waiting.pop(0))
        return True

    def _correct(self, at: int, column: int, text: str) -> None:
        """What was typed over a column's name, its role or its unit."""
        found = self.preview
        if found is None:
            return
        before = self._corrections.get(at) or Correction(found.columns[at].name, found.columns[at].unit)
        typed = text.strip()
        if column == 1:
            role = next(
                (role for role, words in ROLES.items() if typed.lower() and typed.lower() in f"{role} {words}"), None
            )
            if role is None:
                self._hub.tell(f"A column is {', '.join(ROLES.values())}; “{typed}” is none of these.", "red")
                self._show_columns()
                return
            now = replace(before, role=role)
        else:
            now = replace(before, name=typed) if column == 0 else replace(before, unit=typed)
        if now == before:
            return
        corrections, corrected = {**self._corrections, at: now}, self._hub.lesson.bringing_in.corrected

        def then(made: Preview) -> None:
            self._corrections = corrections
            self._show(made)

        if len(found.logged.data) > LONG:
            self._later(
                "Looking again …",
                lambda _: with_pictures(corrected(found, corrections)),
                then,
                lambda: self._show(found),
            )
        elif not self._hub.try_to(lambda: then(corrected(found, corrections))):
            self._show(found)

    @property
    def _hue(self) -> str:
        """Of the group whose file it is."""
        whose = (self.preview.group if self.preview is not None else None) or self._hub.group
        group = next((each for each in self._hub.lesson.store.groups if each.id == whose), None)
        return hue(palette(), group.emblem.colour) if group is not None else palette().ink

    def _show_columns(self) -> None:
        found = self.preview
        if found is None:
            return
        rows: list[list[Cell]] = [
            [
                (each.name, tone_of(found, at, self._hue)), ROLES[each.role], each.unit, f"{each.values}",
                (each.note, "amber" if "never set" in each.note else "verdigris" if "moved at" in each.note else "soft"),
            ]
            for at, each in enumerate(found.columns)
        ]  # fmt: skip
        self.columns.fill(rows)
        self.columns.fit(6)

    def _show(self, found: Preview) -> None:
        self.preview = found
        logged, times = found.logged, found.times
        say(self.title, "Bring in what a kit logged on its own")
        more = f" and {len(self._waiting)} more" if self._waiting else ""
        say(self.files, f"{file_words(found)}{more}")
        say(self.lines, coloured_lines(found, self._hue, FIRST_LINES, MOST_LINE))
        say(self.lines_card.aside, f"{len(logged.rows)} rows · nothing in the file is changed")
        self._show_columns()
        self.when.clear()
        offered = [AS_TOLD] if times.first is not None else []
        lesson = self._hub.lesson
        live = [run for run in lesson.store.ended_runs() if run.began_at and run.begin is not None and run.ending is not None and run.ending.code != "brought-in"]  # fmt: skip
        self._beside = live[-MOST_BESIDE:]
        self.when.addItems([*offered, WRITTEN, BEGAN, ENDED, DURATIONS, *(f"{AS_RUN}{shortened(lesson.store.group(run.group).alias, 10)} run {run.number}" for run in self._beside)])  # fmt: skip
        self.when.setCurrentText(AS_TOLD if offered else WRITTEN if times.state == "never set" else DURATIONS)
        groups = self._hub.lesson.store.groups
        self.whose.clear()
        self.whose.addItems([group.alias for group in groups])
        own = found.group or self._hub.group
        self.whose.setCurrentIndex(next((at for at, group in enumerate(groups) if group.id == own), 0))
        left = [f"{each.lines} line{'s' if each.lines != 1 else ''}: {each.what}" for each in logged.left_out]
        say(self.told, "\n".join([*([f"This was {found.again}."] if found.again else []), *left]) or "Nothing.")
        self._show_when()
        self._show_whose()

    def _show_whose(self) -> None:
        """What would become of the file as a run of the group that is chosen."""
        found, lesson = self.preview, self._hub.lesson
        self.main.setText(f"Bring in as a run of {self.whose.currentText()} (Enter)")
        if found is not None and 0 <= self.whose.currentIndex() < len(lesson.store.groups):
            group = lesson.store.groups[self.whose.currentIndex()].id
            say(self.calibrated, "\n".join(calibration_words(lesson.store, found, group)))

    def _draw(self) -> None:
        self.graph.wipe()
        found = self.preview
        if found is None:
            return
        channels = [at for at, each in enumerate(found.columns) if each.role == "channel"]
        at = self.columns.currentRow() if self.columns.currentRow() in channels else next(iter(channels), None)
        if at is None:
            return
        name, unit = found.columns[at].name, found.columns[at].unit
        made = found.pictures.get(at) or picture_of_column(found, at)
        seen = thinned(made, max(300, self.graph.width()), max(found.seconds, 1e-9))
        for low, high in found.gaps[:MOST_SHADED]:
            self.graph.shade(low, high, palette().amber)
        self.graph.line(*seen, palette().tone(tone_of(found, at, self._hue)), 1.6)
        self.graph.name_time(with_unit(f"raw {name}", unit), found.seconds, "time since the first row")
        self.graph.setXRange(0, found.seconds or 1.0, padding=0.02)
        self.graph.frame_values(seen.values)
        gaps = f"{len(found.gaps)} gap{'s' if len(found.gaps) > 1 else ''} shown" if found.gaps else ""
        say(self.trace_card.aside, gaps)

    def _show_when(self) -> None:
        self.moment.setVisible(self.when.currentText() in (BEGAN, ENDED))
        self.beside.field.setVisible(self._run_beside is not None)
        if self._run_beside is not None:
            self._hub.try_to(self._match)
        elif self.preview is not None:
            notes = ". ".join(each[:1].upper() + each[1:] for each in self.preview.times.notes)
            say(self.when_words, notes or "The file says when each row was.")
            self._draw()

    @property
    def _run_beside(self) -> Run | None:
        """The run by whose event the file is placed, where it is."""
        at = self.when.currentIndex() - (self.when.count() - len(self._beside))
        return self._beside[at] if at >= 0 else None

    def _match(self) -> None:
        """Proposes where the file lies in a run, and says how sure that is."""
        run, preview, lesson = self._run_beside, self.preview, self._hub.lesson
        assert run is not None
        assert preview is not None
        if max(len(preview.logged.data), (run.end or 0) - (run.begin or 0)) <= LONG:
            self.beside.show(held_against(preview, lesson.working_up.replayed(run.id)), preview.seconds)
            return
        book, channels = lesson.book, lesson.store.channels

        def then(held: HeldAgainst) -> None:
            self.preview = preview
            self.beside.show(held, preview.seconds)

        def otherwise() -> None:
            self.preview = preview
            self.when.setCurrentText(DURATIONS)
            self._show_when()

        self._later(
            "Looking where it lies in that run …",
            lambda _: held_against_run(book, preview, run, channels),
            then,
            otherwise,
        )

    def bring(self) -> None:
        """Keeps the file that is shown as a run, and shows the next."""
        found = self.preview
        if found is not None and not self._hub.try_to(lambda: self._bring(found)):
            return

    def _kept(self) -> None:
        if not self._next():
            self.leave()

    def _bring(self, found: Preview) -> None:
        group = self._hub.lesson.store.groups[self.whose.currentIndex()]
        when, moment = self.when.currentText(), None
        if when in (BEGAN, ENDED):
            try:
                moment = datetime.fromisoformat(self.moment.text().strip())
            except ValueError:
                raise FileTrouble("moment-not-read", text=self.moment.text()) from None
        run_beside = self._run_beside
        if run_beside is not None:
            shift = self.beside.shift
            if shift is None:
                raise FileTrouble("moment-not-read", text=self.beside.field.text())
            moment = datetime.fromisoformat(run_beside.began_at).replace(tzinfo=None) + timedelta(seconds=shift)
        place = (bringing_in := self._hub.lesson.bringing_in).place_for(found, group.id)

        def keep(kept: KeptFile) -> None:
            run, _ = bringing_in.brought(
                found, place, kept, began=moment if when == BEGAN or run_beside is not None else None,
                ended=moment if when == ENDED else None, told=when != DURATIONS,
            )  # fmt: skip
            self._hub.lesson.working_up.ended(run, kept.recorded(run))
            who = f"{group.alias} run {self._hub.lesson.store.run(run).number}"
            self._hub.tell(f"{words_of_file(found, who)}.", "good", act="Take back", then=self._hub.undo)
            self._kept()

        if len(found.logged.data) > LONG:
            self._later(f"Keeping {file_words(found)} …", place.keep, keep)
        else:
            keep(place.keep())

    def leave(self) -> None:
        self._polls.stop()
        self._progress.stop()
        self._answer = None
        for each in self._shown:
            each.show()
        self.preview, self._waiting = None, []
        self._left()
