"""The window: path, benches, stage, messages and tape, with one clock that asks the core what to draw."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6 import sip
from PyQt6.QtCore import QEvent, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QShortcut, QShowEvent
from PyQt6.QtWidgets import QApplication, QMainWindow, QStackedWidget, QVBoxLayout, QWidget

from common_bench.desk.calibrate.stage import CalibrateStage
from common_bench.desk.look import sheet
from common_bench.desk.look.labels import Markup, escaped, rich
from common_bench.desk.look.palette import PAPER, PROJECTOR
from common_bench.desk.look.pieces import Card, hbox, scrolled, vbox
from common_bench.desk.look.sheet import palette, px, wear
from common_bench.desk.plan.stage import PlanStage
from common_bench.desk.plug.stage import PlugStage
from common_bench.desk.pool.stage import PoolStage
from common_bench.desk.record.stage import RecordStage
from common_bench.desk.shelf.dropped import dropped_file, dropped_logs
from common_bench.desk.shelf.shelf import Shelf
from common_bench.desk.shell.benches import Benches
from common_bench.desk.shell.faults import FaultPanel, Faults
from common_bench.desk.shell.frames import Frames
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.keys import Keyboard
from common_bench.desk.shell.news import News
from common_bench.desk.shell.path import Path
from common_bench.desk.shell.rounds import Rounds
from common_bench.desk.shell.stage import Keys, StageView
from common_bench.desk.shell.sweeper import Sweeper
from common_bench.desk.shell.tape import Tape
from common_bench.desk.work.stage import WorkStage
from common_bench.lesson.words import STAGES, Stage
from common_bench.model.trouble import Trouble
from common_bench.model.visible import on_one_line
from common_bench.record.events import EngineEvent

if TYPE_CHECKING:
    from common_bench.desk.shell.house import House

LOOK = 1000  # ms between looks for new kits
CLOSE_WITHIN = 5.0  # s that closing waits for the book to be written


class Bench(QMainWindow):
    """Watches and commands; computes nothing. Closing it ends runs and keeps everything."""

    def __init__(self, hub: Hub, faults: Faults | None = None, house: House | None = None) -> None:
        """house: where the shelf is reached; without it there is none, as in the demo."""
        super().__init__()
        self.hub, self._house = hub, house
        self.shelf: Shelf | None = None
        self.asked_to_leave = False
        self.news = News(hub)
        self._asked_to_close = self._stale = False  # the stage is to be shown anew
        read = "" if hub.lesson.is_live else " · only read"
        self.setWindowTitle(f"{on_one_line(hub.lesson.store.plan.name, 80)}{read} · Common Bench")
        self.resize(1280, 800)
        self.setMinimumSize(1024, 640)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAcceptDrops(True)
        self.fault_panel = FaultPanel(faults.show_once() if faults is not None else "")
        if faults is not None:
            faults.found.connect(self.fault_panel.show_fault)  # let go with the panel, as no function of ours would be
        self._build()
        hub.keys_back = self.setFocus
        hub.play_again = self._play_again
        hub.selected.connect(lambda _: self.refresh())
        hub.staged.connect(lambda _: self._show_stage())
        hub.book_changed.connect(self.refresh)
        self.frames = Frames(self, hub.lesson.engine if hub.lesson.is_live else None, lambda: self.stage.draw())
        hub.lesson.working_up.give_way = self.frames.wait_for_one
        self._rounds = Rounds(
            self, (
                self._take_events, self._show_what_changed, lambda: self.path.refresh(), lambda: self.benches.refresh(), lambda: self.tape.refresh(),
                lambda: self.stage.tick(), self._look_about,
            ),
        )  # fmt: skip
        self._looks = QTimer(self)
        self._looks.timeout.connect(hub.begin_to_look)
        self._looks.start(LOOK)
        self._keyboard = Keyboard(self, self.keys, self.escape)
        self._sweeper = Sweeper(self)
        self._shortcuts()
        self.refresh()
        self.news.tell_opening()

    def _build(self) -> None:
        central = QWidget()
        central.setObjectName("paper")
        self.path = Path(self.hub, px(Benches.WIDTH), self.show_shelf if self._house is not None else None)
        self.benches = Benches(self.hub)
        self.tape = Tape(self.hub)
        self.stages: dict[str, StageView] = {
            "plan": PlanStage(self.hub),
            "plug": PlugStage(self.hub),
            "calibrate": CalibrateStage(self.hub, self.benches.stand_ins.choose),
            "record": RecordStage(self.hub),
            "work": WorkStage(self.hub),
            "pool": PoolStage(self.hub),
        }
        self.stack = QStackedWidget()
        for stage in self.stages.values():
            self.stack.addWidget(stage)
        self.left = QStackedWidget()
        self.left.setFixedWidth(px(Benches.WIDTH))
        self.left.addWidget(self.benches)
        self.left.addWidget(self._make_help())
        self.hub.messages.setFixedHeight(px(50))
        self.right = right = vbox(self.stack, self.fault_panel, self.hub.messages, spacing=0)
        right.setStretch(0, 1)
        lesson_page = QWidget()
        middle = hbox(self.left, right, spacing=0)
        middle.setStretch(1, 1)
        lesson_page.setLayout(middle)
        self.pages = QStackedWidget()
        self.pages.addWidget(lesson_page)
        self.shelf = None
        column = QVBoxLayout(central)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.path)
        column.addWidget(self.pages, 1)
        self.foot = vbox(spacing=0)
        column.addLayout(self.foot)
        column.addWidget(self.tape)
        self.setCentralWidget(central)
        self.stack.setCurrentWidget(self.stages[self.hub.stage])

    def _make_help(self) -> QWidget:
        """The keys of a stage, in the place of the benches: beside the stage, not over it."""
        self.help = Card("Keys · F1 closes")
        self.help_words = rich()
        self.help_words.setAlignment(Qt.AlignmentFlag.AlignTop)
        inside = vbox(self.help_words, None)
        inside.setContentsMargins(px(2), px(2), px(8), px(2))
        self.help.add(scrolled(inside))
        return self.help

    @property
    def stage(self) -> StageView:
        return self.stages[self.hub.stage]

    # keys

    def _shortcuts(self) -> None:
        for key, act in (
            ("Ctrl+Z", self.hub.undo),
            ("Ctrl+Shift+Z", self.hub.redo),
            ("Ctrl+Y", self.hub.redo),
            ("F11", self._full_screen),
            ("F9", self.change_theme),
            ("F1", self.toggle_help),
            ("Ctrl+C", lambda: self.stage.copy_picture()),
            ("Ctrl+P", lambda: self.stage.keep_picture()),
        ):
            QShortcut(QKeySequence(key), self).activated.connect(act)

    def keys(self) -> Keys:
        """What each key does now, the stage's own before the general ones."""
        if self.shelf is not None and self.pages.currentWidget() is self.shelf:
            return {**self._stage_keys(), **self.shelf.keys()}
        return {**self.general_keys(), **self.stage.keys()}

    def _stage_keys(self) -> Keys:
        """To the stages, and between them and the shelf."""
        keys: Keys = {
            str(n): (f"stage {n}, {name}", lambda s=stage: self.go_to(s))  # type: ignore[misc]
            for n, (stage, name) in enumerate(STAGES, 1)
        }
        if self._house is not None:
            keys["0"] = ("the shelf: classes, lessons, plans", self.show_shelf)
        return keys

    def general_keys(self) -> Keys:
        keys = self._stage_keys()
        keys["Down"] = ("next bench", lambda: self.hub.step(1))
        keys["Up"] = ("previous bench", lambda: self.hub.step(-1))
        keys["T"] = ("open or close the tape", self.tape.toggle)
        for command in self.hub.lesson.store.plan.commands:
            if command.key:
                keys[command.key] = (command.name, lambda c=command: self.hub.command(c))  # type: ignore[misc]
        if self.benches.stand_ins.is_there:
            keys["H"] = (self.benches.stand_ins.what_h_does, self.benches.stand_ins.hang_it)
        return keys

    def escape(self) -> bool:
        """Leaves what is open, the last first; whether anything was."""
        if self.hub.messages.asks:
            self.hub.messages.question.leave()
        elif self.shelf is not None and self.pages.currentWidget() is self.shelf:
            self.shelf.escape()
        elif self.fault_panel.isVisible():
            self.fault_panel.hide()
        elif self.tape.escape() or self.stage.escape():
            pass
        elif self.left.currentWidget() is self.help:
            self.toggle_help()
        elif self.hub.messages.text:
            self.hub.messages.clear()
        else:
            return False
        self.setFocus()
        return True

    def toggle_help(self) -> None:
        shown = self.left.currentWidget() is self.help
        self._say_keys()
        self.left.setCurrentWidget(self.benches if shown else self.help)

    def _say_keys(self) -> None:
        also = {
            "Ctrl+Z": "take back", "Ctrl+Y": "do again", "Ctrl+C": "copy the graph", "Ctrl+P": "keep the graph as a picture", "Esc": "leave a field, a list or a panel",
            "F9": "projector theme", "F11": "full screen", "F1": "these keys",
        }  # fmt: skip
        stages = [str(number) for number, _ in enumerate(STAGES, 1)]
        keys = {**self.stage.keys(), **self.general_keys()}
        listed = {key: words for key, (words, _) in keys.items() if key not in stages}
        listed |= {f"{stages[0]} … {stages[-1]}": "the stages", **also}
        rows = "".join(
            f"<tr><td style='color:{palette().copper};padding:1px 8px 3px 0'><b>{escaped(NAMED.get(key, key))}</b></td>"
            f"<td style='padding:1px 0 3px 0'>{escaped(words)}</td></tr>"
            for key, words in listed.items()
        )
        self.help_words.setText(Markup(f"<table cellspacing=0>{rows}</table>"))

    def _full_screen(self) -> None:
        if self.isFullScreen():
            self.showNormal()
        else:
            self.showFullScreen()

    def change_theme(self) -> None:
        """Paper for a screen, dark with larger type for a projector. What was chosen stays chosen."""
        QTimer.singleShot(0, self._change_theme)  # not from within a widget that is about to go

    def _change_theme(self) -> None:
        if not self.isVisible():
            return
        self.hub.keep_typed()
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        chosen = {name: stage.chosen() for name, stage in self.stages.items()}
        kept = {each: each.isVisible() for each in (self.hub.messages, self.fault_panel)}
        for each in kept:
            each.setParent(self)
        old = self.takeCentralWidget()
        assert old is not None
        sip.delete(old)  # at once: restyling it would take longer than making it anew
        wear(app, PROJECTOR if sheet.palette() is PAPER else PAPER)
        self._build()
        for each, visible in kept.items():
            each.setVisible(visible)
        for name, what in chosen.items():
            self.stages[name].choose_again(what)
        self.refresh()
        self.setFocus()

    # showing

    def show_shelf(self) -> None:
        """The shelf in the place of benches and stage; the lesson goes on. Once more: back to it."""
        if self._house is None:
            return
        self.hub.keep_typed()
        if self.shelf is None:
            self.shelf = Shelf(self._house, self.hub.messages, px(Benches.WIDTH))
            self.pages.addWidget(self.shelf)
        if self.pages.currentWidget() is self.shelf:
            self.show_lesson()
            return
        self.shelf.refresh()
        self.pages.setCurrentWidget(self.shelf)
        self.foot.addWidget(self.hub.messages)
        self.path.away = True
        self.path.refresh()
        self.setFocus()

    def show_lesson(self) -> None:
        """Back from the shelf."""
        self.right.addWidget(self.hub.messages)
        self.pages.setCurrentIndex(0)
        self.path.away = False
        self.refresh()
        self.setFocus()

    def go_to(self, stage: Stage) -> None:
        """A stage of the lesson, from the shelf too."""
        if self.pages.currentIndex():
            self.show_lesson()
        self.hub.go(stage)

    def _show_stage(self) -> None:
        if self.pages.currentIndex():
            self.show_lesson()
        self.stack.setCurrentWidget(
            self.stage
        )  # first: a stage that fails to draw itself is still the one that is named
        self.stage.refresh()
        self._say_keys()
        self.setFocus()
        self.tick()

    def _play_again(self, run: int) -> None:
        self.go_to("record")
        stage = self.stages["record"]
        assert isinstance(stage, RecordStage)
        stage.play_again(run)

    def refresh(self) -> None:
        self.benches.rebuild()
        self.path.refresh()
        self.tape.refresh()
        self.stage.refresh()
        # what grew would lie over its neighbours for as long as what comes next holds the window up
        QApplication.sendPostedEvents(None, QEvent.Type.LayoutRequest.value)

    def _take_events(self) -> bool:
        """What the engine and the workers have told. Whether there is more."""
        found: list[EngineEvent] = []
        self.hub.try_to(lambda: found.extend(self.hub.lesson.tick()))
        for each in found:
            self.news.tell_event(each)
            record = self.stages["record"]
            assert isinstance(record, RecordStage)
            if each.what == "run-ended":
                record.acts.run_ended(each.run)
            elif each.what == "run-worked":
                record.acts.look_at_extra(each.run)
        self.news.tell_worked([each.run for each in found if each.what == "run-worked"])
        self.news.tell_whole_trouble()
        self.news.tell_doubts()
        self.news.tell_progress()
        self.hub.tick()
        self._stale |= any(each.what in ("run-began", "run-ended", "run-worked", "in-step", "format") for each in found)
        return self.hub.lesson.is_more

    def _show_what_changed(self) -> None:
        if self._stale:
            self._stale = False
            self.stage.refresh()

    def tick(self) -> None:
        self._rounds.whole()

    def _look_about(self) -> None:
        if self.shelf is not None and self.pages.currentWidget() is self.shelf:
            self.shelf.look()
        undo = self.hub.history.undo_label()
        said = self.hub.lesson.store.plan.tiles.get(self.hub.stage, "")
        self.hub.messages.say_quietly(
            f"{f'{said} · ' if said else ''}F1 lists the keys of this stage{f' · Ctrl+Z takes back: {undo}' if undo else ''}"
        )

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """A plan or a book may be dropped on the window of a lesson too: the shelf takes it."""
        if event is not None and (dropped_file(event) is not None or dropped_logs(event)):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        logs = dropped_logs(event) if event is not None else []
        if logs:
            self.go_to("record")
            record = self.stages["record"]
            assert isinstance(record, RecordStage)
            record.bring_in(logs)
        elif event is not None and dropped_file(event) is not None and self._house is not None:
            if self.pages.currentIndex() == 0:
                self.show_shelf()
            assert self.shelf is not None
            self.shelf.dropEvent(event)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.setFocus()  # not to the first field: keys belong to the stage

    def closeEvent(self, event: QCloseEvent | None) -> None:
        assert event is not None
        self.hub.keep_typed()
        for clock in (self.frames, self._rounds, self._looks):
            clock.stop()
        try:
            self.hub.lesson.close(within=CLOSE_WITHIN if not self._asked_to_close else 0.0)
        except Trouble as trouble:
            if not self._asked_to_close:
                self._asked_to_close = True
                self.hub.tell(
                    f"{trouble.sentence} Close once more to leave all the same.", "red", act="Write it elsewhere",
                    then=self.hub.write_elsewhere,
                )  # fmt: skip
                for clock in (self.frames, self._rounds, self._looks):
                    clock.start()
                event.ignore()
                return
        self._sweeper.stop()
        self.hub.close()
        if self._house is not None and self._house.window is self:
            self._house.close()
        event.accept()


NAMED = {"Return": "Enter", "Del": "Delete", "Space": "space", "Up": "↑", "Down": "↓", "Left": "←", "Right": "→", "Escape": "Esc"}  # fmt: skip
