"""Every stage of a lesson's window looked at: with names of any length, at three sizes, in both themes."""

from __future__ import annotations

import os
from itertools import product

from PyQt6.QtTest import QTest

from common_bench.desk.look.sheet import palette
from common_bench.lesson.words import STAGES
from cuts import cut_texts, unreadable_texts
from person import Desk

SIZES = ((1280, 800), (1366, 768), (1920, 1080))
NAMES = (
    (),
    ("Basalt and chalk", "Quartz", "Red sandstone", "Slate roof", "The marble four", "Flint"),
    ("The Friday afternoon group", "Group of the window side", "Granite, gneiss and gabbro", "Limestone", "We four", "Late ones"),
    ("A", "B", "Team of those who came in late and sit by the door of the room", "Ü", "The one with the tape measure and no kit", "F"),
)  # fmt: skip
LOOKS = tuple(product(SIZES, range(len(NAMES)), ("paper", "projector")))


class Walk:
    """Looks at every stage, each time with other names, another size, the other theme: all pairs of them in three walks."""

    def __init__(self, made: Desk) -> None:
        self.made = made
        self.own = {group.id: group.alias for group in made.lesson.store.groups}
        self.turn = 0
        self.found: list[str] = []

    def look(self, when: str) -> None:
        looks = LOOKS if os.environ.get("PROFILE") == "explore" else self._share()
        for (wide, high), length, theme in looks:
            self._wear(length, theme)
            self.made.window.resize(wide, high)
            for stage, _ in STAGES:
                self.made.hub.go(stage)
                if stage == "plan":
                    self.made.window.stage.turn_to(length)
                told: set[str] | None = None
                for _ in range(12):  # what is cut while it is laid out does not count
                    QTest.qWait(40)
                    seen = {
                        *unreadable_texts(self.made.window, long_names=length > 0),
                        *cut_texts(self.made.window, long_names=length > 0),
                    }
                    told = seen if told is None else told & seen
                    if not told:
                        break
                self.found += [
                    f"{when}, {theme}, {wide}x{high}, names {length}, {stage}: {each}" for each in told or ()
                ]

    def own_names(self) -> None:
        self._wear(0, palette().name)

    def _share(self) -> tuple[tuple[tuple[int, int], int, str], ...]:
        self.turn += 1
        themes = (
            ("paper", "projector") if palette().name == "paper" else ("projector", "paper")
        )  # each change takes its time
        return tuple((SIZES[(k + self.turn) % len(SIZES)], k, themes[k // 2]) for k in range(len(NAMES)))

    def _wear(self, length: int, theme: str) -> None:
        lesson = self.made.lesson
        aliases = [*NAMES[length], *[*self.own.values()][len(NAMES[length]) :]]
        groups = {group.id: group for group in lesson.store.groups}
        rows = [
            lesson.book.changed("group", group.id, alias=alias)
            for group, alias in zip((groups[each] for each in self.own), aliases, strict=True)
            if group.alias != alias
        ]
        if rows:
            lesson.changes.do("Names", rows)
        if palette().name != theme:
            self.made.change_theme()
        self.made.window.refresh()
