"""Who is in the pool, seen while it is sealed too: never what."""

from __future__ import annotations

from PyQt6.QtWidgets import QVBoxLayout

from common_bench.desk.look.emblems import EmblemView
from common_bench.desk.look.labels import BesideLabel, ShortLabel
from common_bench.desk.look.pieces import Card, button, emptied, hbox
from common_bench.desk.look.sheet import px
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.pool_state import WITHOUT_NAMES


class WhoCard(Card):
    """Each group with how many findings it has sent, and what was worked up and is not in yet."""

    def __init__(self, hub: Hub) -> None:
        super().__init__("Who is in")
        self._hub = hub
        self._who = QVBoxLayout()
        self._who.setSpacing(px(6))
        self.body.addLayout(self._who)
        self.send = button("", self.send_all, role="link")
        self.add(self.send)

    def send_all(self) -> None:
        """Of every bench, the runs that count, have a finding and are not in."""
        self._hub.send_to_pool(self._hub.lesson.pooling.to_send(), "The class")

    def show_lesson(self, lesson: OpenLesson) -> None:
        emptied(self._who)
        rows, loose = lesson.store.pool_rows(), len(lesson.pooling.to_send())
        self.send.setText(
            f"Send {'all ' if loose > 1 else 'the '}{loose} that {'are' if loose > 1 else 'is'} not in (P)"
        )
        self.send.setVisible(loose > 0)
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
            alias = ShortLabel(self._hub.name_of(group.id))
            alias.setFixedWidth(px(90))
            said = BesideLabel(words, tone)
            self._who.addLayout(hbox(EmblemView(*self._hub.emblem_of(group), 16), alias, said))
