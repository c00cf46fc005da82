"""The forms of the language and the ready lines: a list to choose from, each with its sentence and a small picture."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QModelIndex, QPointF, QRect, QSize, Qt
from PyQt6.QtGui import QColor, QFont, QFontMetrics, QPainter, QPen, QPixmap, QPolygonF
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from common_bench.desk.look.labels import label, set_tip
from common_bench.desk.look.pieces import Card, Field, button, hbox, say
from common_bench.desk.look.sheet import palette, px
from common_bench.lesson.line_offers import Offer
from common_bench.model.block import Floats
from common_bench.workings.picture import FormPicture, picture_of

WIDE, HIGH = 92, 40  # px of a picture


class _OfferLine(QStyledItemDelegate):
    """A picture, how it is written, and under that what it does. A picture is made when it is first seen."""

    def __init__(self, parent: QListWidget) -> None:
        super().__init__(parent)
        self._pictures: dict[tuple[str, str], QPixmap] = {}

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(px(200), px(HIGH + 10))

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        assert painter is not None
        painter.save()
        area = option.rect
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(area, QColor(palette().chosen))
            painter.fillRect(area.x(), area.y(), px(3), area.height(), QColor(palette().copper))
        place = QRect(area.x() + px(8), area.y() + px(5), px(WIDE), px(HIGH))
        offer: Offer = index.data(Qt.ItemDataRole.UserRole)
        painter.drawPixmap(place, self._picture(offer.form))
        words = QRect(
            place.right() + px(12), area.y() + px(3), area.right() - place.right() - px(18), area.height() // 2
        )
        painter.setPen(QColor(palette().soft))
        painter.drawText(
            words,
            int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter),
            f"late by {offer.late}" if offer.late else "",
        )
        bold = QFont(option.font)
        bold.setBold(True)
        for text, font, colour in (
            (offer.written, bold, palette().ink),
            (f"from {offer.says}" if offer.group == "ready" else offer.says, option.font, palette().soft),
        ):
            painter.setFont(font)
            painter.setPen(QColor(colour))
            shown = QFontMetrics(font).elidedText(text, Qt.TextElideMode.ElideRight, words.width())
            painter.drawText(words, int(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter), shown)
            words.translate(0, area.height() // 2 - px(4))
        painter.restore()

    def _picture(self, form: str) -> QPixmap:
        key = form, palette().card
        if key not in self._pictures:
            self._pictures[key] = _drawn(picture_of(form) if form else None)
        return self._pictures[key]


class FormsList(Card):
    """taken: told the offer whose lines are to be added."""

    def __init__(self, offered: Callable[[], list[Offer]], taken: Callable[[Offer], object]) -> None:
        super().__init__()
        self._offered, self._taken = offered, taken
        self._offers: list[Offer] = []
        self.search = Field()
        self.search.setPlaceholderText("find: rate, peaks, heat …")
        self.search.textChanged.connect(lambda _: self._fill())
        self.search.returnPressed.connect(self.take)
        self.list = QListWidget()
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setVerticalScrollMode(QListWidget.ScrollMode.ScrollPerPixel)
        self._lines_drawn = _OfferLine(self.list)
        self.list.setItemDelegate(self._lines_drawn)
        self.list.itemActivated.connect(lambda _: self.take())
        self.list.currentItemChanged.connect(lambda *_: self._say())
        self.add_it = button("Add to the plan", self.take)
        self.lines = label("", "small", wrap=True)
        self.body.addLayout(hbox(self.search, self.add_it, spacing=6))
        self.body.addWidget(self.list, 1)
        self.body.addWidget(self.lines)

    def show_offers(self) -> None:
        """What the plan can be offered now."""
        offered = self._offered()
        if offered != self._offers:
            self._offers = offered
            self._fill()

    def _fill(self) -> None:
        asked = self.search.text().lower().split()
        chosen = self.chosen
        self.list.clear()
        for offer in self._offers:
            text = f"{offer.written} {offer.says} {' '.join(offer.lines)}".lower()
            if not all(word in text for word in asked):
                continue
            item = QListWidgetItem(offer.written)
            item.setData(Qt.ItemDataRole.UserRole, offer)
            self.list.addItem(item)
            if chosen is not None and offer.written == chosen.written:
                self.list.setCurrentItem(item)
        if self.list.currentItem() is None and self.list.count():
            self.list.setCurrentRow(0)
        self._say()

    @property
    def chosen(self) -> Offer | None:
        item = self.list.currentItem()
        found: Offer | None = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        return found

    def _say(self) -> None:
        offer = self.chosen
        self.add_it.setEnabled(offer is not None)
        if offer is None:
            say(self.lines, "Nothing is written like that." if self.search.text() else "")
            return
        missing = f"The plan has nothing yet for {', '.join(offer.missing)}.  " if offer.missing else ""
        say(self.lines, missing + "   ".join(offer.lines), "amber" if missing else "")
        set_tip(self.list, f"{offer.written}: {offer.says}")

    def take(self) -> None:
        offer = self.chosen
        if offer is not None:
            self._taken(offer)


def _drawn(picture: FormPicture | None) -> QPixmap:
    pixmap = QPixmap(px(WIDE) * 2, px(HIGH) * 2)
    pixmap.fill(QColor(palette().paper))
    if picture is None:
        return pixmap
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    low, high = float(np.nanmin(picture.before)), float(np.nanmax(picture.before))
    soft, strong = QColor(palette().soft), QColor(palette().copper)
    painter.setPen(QPen(soft, 2))
    _line(painter, picture.t, picture.before, low, high, pixmap)
    painter.setPen(QPen(strong, 3.5))
    values = picture.after[np.isfinite(picture.after)]
    if len(values):
        kin = low <= values.mean() <= high and np.ptp(values) > 0.2 * (high - low)
        ends = (low, high) if kin else (float(values.min()) - 1e-9, float(values.max()) + 1e-9)
        if len(picture.marks):
            painter.setBrush(strong)
            for t, value in zip(picture.t, picture.after, strict=True):
                if np.isfinite(value):
                    painter.drawEllipse(_point(t, value, *ends, pixmap), 4, 4)
        else:
            _line(painter, picture.t, picture.after, *ends, pixmap)
    elif np.isfinite(picture.level):
        ends_of = _point(0.0, picture.level, low, high, pixmap), _point(6.0, picture.level, low, high, pixmap)
        painter.drawLine(*ends_of)
    else:
        for t in picture.marks.tolist():
            x = _point(t, low, low, high, pixmap).x()
            painter.drawLine(QPointF(x, 2), QPointF(x, pixmap.height() - 2))
    painter.end()
    return pixmap


def _point(t: float, value: float, low: float, high: float, pixmap: QPixmap) -> QPointF:
    part = (value - low) / ((high - low) or 1.0)
    return QPointF(t / 6.0 * pixmap.width(), pixmap.height() * (0.9 - 0.8 * min(1.2, max(-0.2, part))))


def _line(painter: QPainter, t: Floats, values: Floats, low: float, high: float, pixmap: QPixmap) -> None:
    known = np.flatnonzero(np.isfinite(values))
    for run in np.split(known, np.flatnonzero(np.diff(known) > 3) + 1):
        if len(run) > 1:
            points = [_point(float(t[k]), float(values[k]), low, high, pixmap) for k in run[::2].tolist()]
            painter.drawPolyline(QPolygonF(points))
