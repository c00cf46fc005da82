"""What the chosen class did the last time, who is in it, and what is left to do there."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QHBoxLayout

from common_bench.desk.look.emblems import EmblemView
from common_bench.desk.look.labels import ShortLabel, label
from common_bench.desk.look.pieces import Card, button, emptied, hbox, say, vbox
from common_bench.desk.shelf.classes import day_words
from common_bench.lesson.lessons import BookEntry

MOST_SHOWN = 8  # groups


class LastLesson(Card):
    """A card under the plans."""

    def __init__(self, go: Callable[[], object]) -> None:
        super().__init__()
        self.name, self.words, self.waiting = label("", "name"), ShortLabel("", "soft"), label("", "soft")
        self._groups = QHBoxLayout()
        top = hbox(self.name, self.words, spacing=8)
        top.setStretch(1, 1)
        self.go = button("Go there", go, role="link")
        self.body.addLayout(top)
        self.body.addLayout(self._groups)
        self.body.addLayout(hbox(self.waiting, self.go, None))

    def show_book(self, book: BookEntry | None) -> None:
        self.setVisible(book is not None)
        emptied(self._groups)
        if book is None:
            return
        waiting = ""
        if book.trouble is not None or not book.lessons:
            say(self.name, book.name)
            say(self.words, book.trouble.sentence if book.trouble is not None else "no lesson yet")
        else:
            last = book.lessons[0]
            pool = "pool open" if last.pool_open else "pool sealed"
            found = f" · {last.finding_name} = {last.finding}" if last.finding is not None else ""
            runs, groups = (
                f"{last.runs} run{'s' if last.runs != 1 else ''}",
                f"{last.groups} group{'s' if last.groups != 1 else ''}",
            )
            say(self.name, f"Last time: {last.name}, {day_words(last)}")
            say(self.words, f"{runs} of {groups} · {pool}{found}")
            waiting = ", ".join(last.not_worked[:3])
        for group in book.groups[:MOST_SHOWN]:
            known = "kit known" if group.id in book.kits_known else "no kit yet"
            words = vbox(ShortLabel(group.alias), ShortLabel(known, "small"), spacing=1)
            one = hbox(EmblemView(group.emblem.shape, group.emblem.colour, 18), words, spacing=6)
            one.setStretch(1, 1)
            self._groups.addLayout(one, 1)
        if len(book.groups) > MOST_SHOWN:
            self._groups.addWidget(label(f"and {len(book.groups) - MOST_SHOWN} more", "small"))
        say(self.waiting, f"Runs of {waiting} have no finding yet." if waiting else "")
        for each in (self.waiting, self.go):
            each.setVisible(bool(waiting))
