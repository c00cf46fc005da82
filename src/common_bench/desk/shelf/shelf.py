"""The shelf: what is seen where no lesson is open, and at any time by one key. Classes at the left, plans beside them."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from common_bench.desk.look.labels import ShortLabel
from common_bench.desk.look.messages import MessagePlace
from common_bench.desk.look.pieces import button, hbox, say, vbox
from common_bench.desk.look.sheet import px
from common_bench.desk.shelf.classes import ClassColumn
from common_bench.desk.shelf.dropped import dropped_file
from common_bench.desk.shelf.forms import GroupsForm, NewClassForm
from common_bench.desk.shelf.last_lesson import LastLesson
from common_bench.desk.shelf.plan_cards import ACROSS, PlanDetails, PlanGrid
from common_bench.desk.shelf.removal import LessonRemoval
from common_bench.desk.shell.stage import Keys
from common_bench.lesson.known_books import forget, known_books, remember
from common_bench.lesson.lessons import BookEntry, LessonEntry, book_entry
from common_bench.lesson.plan_library import all_plans, empty_plan, keep_plan, plan_from_columns
from common_bench.lesson.register import Register
from common_bench.lesson.scouting import heard_words
from common_bench.model.plan import Plan
from common_bench.model.plan_file import SUFFIX, plan_from_file
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import PlanTrouble, Trouble


class Doors(Protocol):
    """Where the shelf leads to."""

    def open_lesson(self, path: Path, lesson: int | None) -> None: ...

    def begin(self, path: Path, plan: Plan, origin: str) -> None: ...

    def make_class(self, path: Path, name: str, aliases: list[str]) -> None: ...

    def try_out(self, key: str) -> None: ...

    def edit(self, path: Path, act: Callable[[Register], object]) -> None: ...

    def heard(self) -> list[StreamFormat]: ...

    def open_now(self) -> tuple[Path, int] | None: ...

    def back(self) -> None: ...


class Shelf(QWidget):
    """Reads books without changing them; everything that changes something goes through its doors."""

    def __init__(self, doors: Doors, messages: MessagePlace, width: int, *, folder: Path | None = None) -> None:
        """width: of the column of classes; folder: of one's own plans, the usual one where none is named."""
        super().__init__()
        self.setObjectName("paper")
        self.setAcceptDrops(True)
        self._doors, self._messages, self._folder = doors, messages, folder
        self.book: BookEntry | None = None
        self._entries: dict[Path, tuple[object, BookEntry]] = {}
        self._waiting: tuple[Plan, str] | None = None  # a plan to begin with once there is a class
        self.column = ClassColumn(
            self.choose, self._go_on, LessonRemoval(doors.open_now, messages, self.refresh).ask,
            [("A new class… (N)", self.new_class, False), ("Open a bench book… (O)", self._ask_book, False),
             ("Class and groups… (G)", self.change_class, True), ("Show where its file lies", self._show_place, True),
             ("Keep a copy…", self._ask_copy, True), ("Take it off the shelf", self._forget, True)],
        )  # fmt: skip
        self.column.setFixedWidth(width)
        self.title, self.heard = ShortLabel("", "title"), ShortLabel("", "soft")
        self.back = button("Back (0)", doors.back)
        head = hbox(
            self.title, self.back, button("From what is plugged in (P)", self.from_plugged), button("An empty one (E)", self.from_nothing),
            button("From a file… (F)", self._ask_plan), spacing=10,
        )  # fmt: skip
        head.setStretch(0, 1)
        self.grid = PlanGrid(self._show_details, self.begin)
        self.details = PlanDetails(self.begin, self._remove_plan)
        self.details.setFixedWidth(px(300))
        plans = QWidget()
        row = hbox(self.grid, self.details, spacing=11)
        row.setStretch(0, 1)
        self.last = LastLesson(self._go_to_last)
        inside = vbox(row, self.last, spacing=11)
        inside.setStretch(0, 1)
        plans.setLayout(inside)
        self.new_form, self.groups_form = (
            NewClassForm(self._make, self.leave_form),
            GroupsForm(self._edit, self.leave_form),
        )
        self.pages = QStackedWidget()
        for page in (plans, self.new_form, self.groups_form):
            self.pages.addWidget(page)
        right = QVBoxLayout()
        right.setContentsMargins(px(14), px(12), px(14), px(4))
        right.setSpacing(px(11))
        top = vbox(head, self.heard, spacing=2)
        right.addLayout(top)
        right.addWidget(self.pages, 1)
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addWidget(self.column)
        outer.addLayout(right, 1)

    # what is seen

    def refresh(self) -> None:
        """Looks at all books and plans again."""
        books = [self._entry(Path(each.path)) for each in known_books()]
        path = self.book.path if self.book is not None else None
        self.book = next((each for each in books if each.path == path), None) or next(
            (each for each in books if each.trouble is None), None
        )
        self.books = books
        self.grid.fill(all_plans(self._folder))
        self._show_class()
        self.look()

    def _entry(self, path: Path) -> BookEntry:
        """A book as it stands, read again only where its file has changed."""
        stamp: list[object] = []
        for each in (path, Path(f"{path}-wal")):
            try:
                found = os.stat(each)
                stamp.append((found.st_mtime_ns, found.st_size))
            except OSError:
                stamp.append(None)
        if path not in self._entries or self._entries[path][0] != stamp:
            self._entries[path] = stamp, book_entry(path)
        return self._entries[path][1]

    def look(self) -> None:
        """What is plugged in now."""
        formats = self._doors.heard()
        count = len(formats)
        words = f"{count} kit{'s are' if count != 1 else ' is'} plugged in: {'they send' if count != 1 else 'it sends'} {heard_words(formats)}"
        say(self.heard, words if count else "no kit is plugged in")

    def _show_class(self) -> None:
        book = self.book
        now = self._doors.open_now()
        is_open = book is not None and now is not None and now[0] == book.path
        self.back.setVisible(now is not None)
        self.column.show_books(self.books, book, now[1] if is_open and now is not None else None)
        say(self.title, f"What will {book.name} do next?" if book is not None else "What will your class do?")
        self.last.show_book(book)

    def _show_details(self) -> None:
        self.details.show_plan(self.grid.chosen)

    def keys(self) -> Keys:
        """What keys do while the shelf is shown."""
        if self.pages.currentIndex():
            return {}
        return {
            "N": ("a new class", self.new_class), "O": ("open a bench book", self._ask_book), "G": ("class and groups", self.change_class),
            "P": ("a plan from what is plugged in", self.from_plugged), "E": ("an empty plan", self.from_nothing),
            "F": ("a plan from a file", self._ask_plan), "S": ("with stand-in kits or not", self.details.stand_ins.toggle),
            "Left": ("the plan before", lambda: self.grid.move(-1)), "Right": ("the plan after", lambda: self.grid.move(1)),
            "Up": ("the plan above", lambda: self.grid.move(-ACROSS)), "Down": ("the plan below", lambda: self.grid.move(ACROSS)),
            "Return": ("begin with this plan", self.begin), "Enter": ("begin with this plan", self.begin),
        }  # fmt: skip

    def escape(self) -> bool:
        """Leaves a form, or goes back to the lesson that is open."""
        if self.pages.currentIndex():
            self.leave_form()
            return True
        if self._doors.open_now() is not None:
            self._doors.back()
            return True
        return False

    def _try(self, act: Callable[[], object]) -> bool:
        try:
            act()
        except Trouble as trouble:
            self._messages.tell(trouble.sentence, "red")
            return False
        return True

    # classes

    def choose(self, book: BookEntry) -> None:
        self.book = book
        self.leave_form()
        self._show_class()
        if book.trouble is not None:
            self._messages.tell(book.trouble.sentence, "red")

    def new_class(self) -> None:
        self.pages.setCurrentWidget(self.new_form)
        self.new_form.begin()

    def change_class(self) -> None:
        if self.book is not None and self.book.trouble is None:
            self.groups_form.show_class(self.book)
            self.pages.setCurrentWidget(self.groups_form)

    def leave_form(self) -> None:
        self.pages.setCurrentIndex(0)
        self._waiting = None
        window = self.window()
        if window is not None:
            window.setFocus()

    def _make(self, path: Path, name: str, aliases: list[str]) -> None:
        """Raises Trouble where the class cannot be made."""
        if not name.strip():
            raise PlanTrouble("class-without-name")
        if not aliases:
            raise PlanTrouble("alias-taken", alias="")
        waiting = self._waiting
        self._doors.make_class(path, " ".join(name.split()), aliases)
        remember(path)
        self.book = self._entry(path.resolve())
        self.leave_form()
        self.refresh()
        if waiting is not None:
            self._begin(*waiting)
        else:
            self._messages.tell(
                f"{name.strip()} is there, with {len(aliases)} groups. Choose what it does first.", "good"
            )

    def _edit(self, act: Callable[[Register], object]) -> bool:
        book = self.book
        if book is None or not self._try(lambda: self._doors.edit(book.path, act)):
            return False
        self._entries.pop(book.path, None)
        self.refresh()
        if self.book is not None:
            self.groups_form.show_class(self.book)
        return True

    def _ask_book(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, "Open a bench book", str(Path.home()), "Bench books (*.benchbook);;All files (*)"
        )
        if path:
            self.add_book(Path(path))

    def add_book(self, path: Path) -> None:
        """Puts a book on the shelf and chooses it."""
        found = book_entry(path)
        if found.trouble is not None:
            self._messages.tell(found.trouble.sentence, "red")
            return
        remember(path)
        self.book = self._entry(path.resolve())
        self.refresh()
        self._messages.tell(f"{self.book.name} is on the shelf: {path}", "good")

    def _show_place(self) -> None:
        from PyQt6.QtCore import QUrl
        from PyQt6.QtGui import QDesktopServices

        if self.book is not None:
            self._messages.tell(f"The bench book of {self.book.name} is {self.book.path}", "good")
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.book.path.parent)))

    def _ask_copy(self) -> None:
        if self.book is None:
            return
        proposed = self.book.path.with_name(f"{self.book.path.stem} copy.benchbook")
        path, _ = QFileDialog.getSaveFileName(
            self, "Keep a copy of this book", str(proposed), "Bench books (*.benchbook)", options=QFileDialog.Option.DontConfirmOverwrite
        )  # fmt: skip
        if path:
            self.copy_to(Path(path))

    def copy_to(self, path: Path) -> None:
        """A whole copy of the chosen book, as it is at this moment."""
        from common_bench.book.book_file import copy_book

        book = self.book
        if book is not None and self._try(lambda: copy_book(book.path, path)):
            self._messages.tell(f"A copy is kept as {path}", "good")

    def _forget(self) -> None:
        if self.book is not None:
            now = self._doors.open_now()
            if now is not None and now[0] == self.book.path:
                self._messages.tell("This class has a lesson open; it stays on the shelf.", "amber")
                return
            path = self.book.path
            forget(path)
            self.book = None
            self.refresh()
            self._messages.tell(
                f"It is off the shelf; its file stays: {path}",
                "good",
                act="Put it back",
                then=lambda: self.add_book(path),
            )

    def _go_on(self, lesson: LessonEntry) -> None:
        if self.book is not None:
            path = self.book.path
            self._try(lambda: self._doors.open_lesson(path, lesson.id))

    def _go_to_last(self) -> None:
        if self.book is not None and self.book.lessons:
            self._go_on(self.book.lessons[0])

    # plans

    def begin(self) -> None:
        kept = self.grid.chosen
        if kept is None or kept.plan is None:
            if kept is not None and kept.trouble is not None:
                self._messages.tell(kept.trouble.sentence, "red")
            return
        if kept.world and self.details.stand_ins.isChecked():
            key = kept.world
            self._try(lambda: self._doors.try_out(key))
            return
        self._begin(kept.plan, kept.key if kept.is_shipped else str(kept.path))

    def _begin(self, plan: Plan, origin: str) -> None:
        """The next lesson of the chosen class; a class is asked for first where there is none."""
        if self.book is None or self.book.trouble is not None:
            self.new_class()
            self._waiting = plan, origin
            self._messages.tell(f"“{plan.name}” needs a class: name it, and the lesson begins.", "good")
            return
        path = self.book.path
        self._try(lambda: self._doors.begin(path, plan, origin))

    def from_plugged(self) -> None:
        formats = self._doors.heard()
        if not formats:
            self._messages.tell("Nothing is heard yet. Plug a kit in; a few lines are enough.", "amber")
            return
        self._begin(plan_from_columns(formats), "")

    def from_nothing(self) -> None:
        self._begin(empty_plan(), "")

    def _ask_plan(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, "A plan from a file", str(Path.home()), f"Plans (*{SUFFIX} *.toml);;All files (*)"
        )
        if path:
            self.take_plan(Path(path))

    def take_plan(self, path: Path) -> None:
        """Keeps a copy of a plan file among one's own, and chooses it."""

        def take() -> None:
            plan = plan_from_file(path)
            kept = keep_plan(plan, self._folder)
            self.grid.fill(all_plans(self._folder))
            self.grid.choose(next(card.kept for card in self.grid.cards if card.kept.path == kept))
            self._messages.tell(f"“{plan.name}” is among your plans now.", "good")

        self._try(take)

    def _remove_plan(self) -> None:
        kept = self.grid.chosen
        if kept is None or kept.path is None:
            return
        path, aside = kept.path, kept.path.with_suffix(".taken-off")

        def back() -> None:
            os.replace(aside, path)
            self.refresh()

        try:
            os.replace(path, aside)
        except OSError as fault:
            self._messages.tell(f"{path} could not be taken away ({fault.strerror}).", "red")
            return
        self.refresh()
        self._messages.tell(
            f"“{kept.name}” is off the shelf; its file is {aside.name}.", "good", act="Take back", then=back
        )

    # dropping a file on the window

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        if event is not None and dropped_file(event) is not None:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        path = dropped_file(event) if event is not None else None
        if path is not None:
            self.take_plan(path) if path.suffix in (SUFFIX, ".toml") else self.add_book(path)
