"""Plans as cards: a small sketch of what is seen, the name, what comes of it; and beside them what one asks for."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QFrame, QGridLayout, QSizePolicy, QVBoxLayout, QWidget

from common_bench.desk.look.labels import Markup, ShortLabel, escaped, label, rich, set_tip
from common_bench.desk.look.pieces import Card, button, pretty, say, scrolled, set_property, tick_box
from common_bench.desk.look.sheet import palette, px
from common_bench.lesson.plan_library import KeptPlan
from common_bench.lesson.plan_words import sections

ACROSS = 3
HIGH = 150  # px of a card
NO_SKETCH = (0.2, 0.35, 0.3, 0.5, 0.45, 0.65, 0.6, 0.8)


class Sketch(QWidget):
    """A few strokes of what is seen."""

    def __init__(self, heights: Sequence[float]) -> None:
        super().__init__()
        self._heights = [min(1.0, max(0.0, each)) for each in heights] or list(NO_SKETCH)
        self.setFixedHeight(px(66))

    def paintEvent(self, _: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(palette().paper))
        painter.drawRoundedRect(QRectF(self.rect()), px(5), px(5))
        edge = px(9)
        wide, high = self.width() - 2 * edge, self.height() - 2 * edge
        step = wide / max(1, len(self._heights) - 1)
        points = [QPointF(edge + at * step, edge + (1 - each) * high) for at, each in enumerate(self._heights)]
        painter.setPen(QPen(QColor(palette().verdigris), px(2)))
        painter.drawPolyline(QPolygonF(points))


class PlanCard(QFrame):
    """One plan. A file that cannot be used says so."""

    def __init__(self, kept: KeptPlan, chosen: Callable[[KeptPlan], object], begun: Callable[[], object]) -> None:
        super().__init__()
        self.setObjectName("card")
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFixedHeight(px(HIGH))
        self.kept, self._chosen, self._begun = kept, chosen, begun
        name = ShortLabel(kept.name, "name")
        what = label("", "soft", wrap=True)
        what.setAlignment(Qt.AlignmentFlag.AlignTop)
        what.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Expanding)
        if kept.plan is None:
            say(what, "cannot be used: see at the right", "red")
        else:
            say(what, kept.plan.gives or ("your own plan" if not kept.is_shipped else ""))
        column = QVBoxLayout(self)
        column.setContentsMargins(px(11), px(11), px(11), px(8))
        column.setSpacing(px(4))
        column.addWidget(Sketch(kept.plan.sketch if kept.plan is not None else (0.0, 0.0)))
        column.addWidget(name)
        column.addWidget(what)
        set_tip(self, "" if kept.is_shipped else f"your own plan, in {kept.path}")

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self._chosen(self.kept)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        self._begun()


class PlanGrid(QWidget):
    """All plans, three in a row; the arrow keys go from one to the next."""

    def __init__(self, chosen: Callable[[], object], begun: Callable[[], object]) -> None:
        super().__init__()
        self._told, self._begun = chosen, begun
        self.cards: list[PlanCard] = []
        self.at = 0
        self._grid = QGridLayout()
        self._grid.setContentsMargins(0, 0, px(4), 0)
        self._grid.setSpacing(px(11))
        for column in range(ACROSS):
            self._grid.setColumnStretch(column, 1)
        inside = QVBoxLayout()
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addLayout(self._grid)
        inside.addStretch(1)
        self._area = scrolled(inside)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(self._area)

    def fill(self, plans: Sequence[KeptPlan]) -> None:
        key = self.chosen.key if self.chosen is not None else ""
        for card in self.cards:
            self._grid.removeWidget(card)
            card.hide()
            card.deleteLater()
        self.cards = [PlanCard(each, self.choose, self._begun) for each in plans]
        for at, card in enumerate(self.cards):
            self._grid.addWidget(card, at // ACROSS, at % ACROSS)
        self.at = next((at for at, each in enumerate(plans) if each.key == key), 0)
        self._show()

    @property
    def chosen(self) -> KeptPlan | None:
        return self.cards[self.at].kept if self.at < len(self.cards) else None

    def choose(self, kept: KeptPlan) -> None:
        self.at = next((at for at, card in enumerate(self.cards) if card.kept == kept), self.at)
        self._show()

    def move(self, by: int) -> None:  # type: ignore[override]
        """To another card, as with the arrow keys."""
        if self.cards:
            self.at = min(len(self.cards) - 1, max(0, self.at + by))
            self._show()

    def _show(self) -> None:
        for at, card in enumerate(self.cards):
            set_property(card, "chosen", at == self.at)
        if self.at < len(self.cards):
            self._area.ensureWidgetVisible(self.cards[self.at])
        self._told()


class PlanDetails(Card):
    """What a plan asks for and gives, whether with stand-in kits, and the one main action."""

    def __init__(self, begin: Callable[[], object], remove: Callable[[], object]) -> None:
        super().__init__()
        self.name = label("", "title", wrap=True)
        self.words = rich()
        self.words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.trouble = label("", "red", wrap=True)
        self.stand_ins = tick_box("with stand-in kits (S)")
        set_tip(
            self.stand_ins, "A trial class in a book of its own, with simulated kits; your classes stay as they are"
        )
        self.begin = button("Begin with this plan (Enter)", begin, role="main")
        self.remove = button("Take off the shelf…", remove, role="link")
        inside = QVBoxLayout()
        inside.setContentsMargins(0, 0, px(4), 0)
        inside.setSpacing(px(6))
        for each in (self.name, self.trouble, self.words):
            inside.addWidget(each)
        inside.addStretch(1)
        area = scrolled(inside)
        self.body.addWidget(area, 1)
        self.add(self.stand_ins, self.begin, self.remove)

    def show_plan(self, kept: KeptPlan | None) -> None:
        self.setVisible(kept is not None)
        if kept is None:
            return
        say(self.name, kept.name)
        self.trouble.setVisible(kept.plan is None)
        if kept.trouble is not None:
            say(self.trouble, kept.trouble.sentence)
        text = ""
        if kept.plan is not None:
            text = f"<p>{escaped(kept.plan.about)}</p>" if kept.plan.about else ""
            for heading, words in sections(kept.plan):
                text += (
                    f"<p style='margin:0'><span style='color:{palette().soft};font-size:{px(11)}px'>"
                    f"<b>{escaped(heading.upper())}</b></span><br>{escaped(pretty(words))}</p><p style='margin:0;font-size:{px(6)}px'>&nbsp;</p>"
                )
        self.words.setText(Markup(text))
        self.begin.setEnabled(kept.plan is not None)
        self.stand_ins.setVisible(bool(kept.world))
        self.remove.setVisible(not kept.is_shipped)
