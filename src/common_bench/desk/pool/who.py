"""Who is in the pool, seen while it is sealed too: never what."""

from __future__ import annotations

from PyQt6.QtWidgets import QVBoxLayout

from common_bench.desk.look.emblems import EmblemView
from common_bench.desk.look.labels import ShortLabel
from common_bench.desk.look.pieces import Card, emptied, hbox
from common_bench.desk.look.sheet import px
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.pool_state import WITHOUT_NAMES


class WhoCard(Card):
    """Each group with how many findings it has sent."""

    def __init__(self) -> None:
        super().__init__("Who is in")
        self._who = QVBoxLayout()
        self._who.setSpacing(px(6))
        self.body.addLayout(self._who)

    def show_lesson(self, lesson: OpenLesson) -> None:
        emptied(self._who)
        rows = lesson.store.pool_rows()
        for group in lesson.store.groups:
            own = [row for row in rows if row.group == group.id]
            if not own:
                words, tone = "none yet", "amber"
            elif all(row.aside for row in own) and lesson.store.pool_state != WITHOUT_NAMES:
                words, tone = f"set aside: {own[0].aside}", "amber"
            else:
                later = next((row.note for row in own if row.note), "")
                words, tone = (
                    f"{len(own)} finding{'s' if len(own) != 1 else ''}{f' · {later}' if later else ''}",
                    "soft",
                )
            alias = ShortLabel(group.alias)
            alias.setFixedWidth(px(90))
            said = ShortLabel(words, tone)
            self._who.addLayout(hbox(EmblemView(group.emblem.shape, group.emblem.colour, 16), alias, said))
