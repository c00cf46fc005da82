"""A card in the list of what is plugged in: whose kit, where it is, how it fares. It can be dragged onto a bench."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QMimeData, QPoint, Qt
from PyQt6.QtGui import QDrag, QMouseEvent
from PyQt6.QtWidgets import QApplication, QFrame, QHBoxLayout

from common_bench.desk.look.emblems import EmblemView
from common_bench.desk.look.labels import ShortLabel, label, set_tip
from common_bench.desk.look.pieces import hbox, say, set_property, vbox
from common_bench.desk.look.sheet import px
from common_bench.desk.shell.benches import KIT_MIME
from common_bench.lesson.words import KitWords
from common_bench.model.bench import Group

EMBLEM_WIDE = 24 + 13 + 10 + 12 + 6 + 4  # px of a card, with what is left free


class KitCard(QFrame):
    """One kit, or a port that cannot be opened."""

    def __init__(self, key: str, kit: int | None, choose: Callable[[str], None]) -> None:
        super().__init__()
        self.setObjectName("card")
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.key, self.kit, self._choose = key, kit, choose
        self._pressed: QPoint | None = None
        self.emblem = EmblemView(size=24)
        self.name = ShortLabel("", "name")
        self.where = ShortLabel("", "small")
        self.where.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.line = label("", "small", wrap=True)
        named = hbox(self.name, self.where, spacing=6)
        named.setStretch(0, 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(px(13), px(8), px(10), px(8))
        row.setSpacing(px(12))
        row.addWidget(self.emblem)
        row.addLayout(vbox(named, self.line, spacing=3), 1)

    def show_kit(self, group: Group | None, words: KitWords, *, chosen: bool, lit: bool) -> None:
        set_property(self, "chosen", chosen and not lit)
        set_property(self, "lit", lit)
        self.emblem.show_emblem(group.emblem.shape if group else "", group.emblem.colour if group else "")
        who = group.alias if group else words.who
        say(self.name, who)
        say(self.where, words.where)
        beside = self.name.sizeHint().width() + self.where.sizeHint().width() + px(EMBLEM_WIDE)
        self.where.setVisible(beside <= self.width())
        set_tip(self, f"{who} · {words.where}")
        say(self.line, words.line, words.tone or "small")

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self._pressed = event.pos() if event is not None else None
        self._choose(self.key)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self.kit is None or self._pressed is None:
            return
        if (event.pos() - self._pressed).manhattanLength() < QApplication.startDragDistance():
            return
        self._pressed = None
        drag, carried = QDrag(self), QMimeData()
        carried.setData(KIT_MIME, str(self.kit).encode())
        drag.setMimeData(carried)
        drag.setPixmap(self.grab())
        drag.exec(Qt.DropAction.MoveAction)
