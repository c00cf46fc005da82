"""Any graph of the program as a picture for a worksheet: with its title, whose it is and when, on the clipboard or as PNG, SVG
or PDF."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QMarginsF, QRectF, QSizeF, Qt
from PyQt6.QtGui import QColor, QGuiApplication, QImage, QPageSize, QPaintDevice, QPainter, QPdfWriter
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QGraphicsView

from common_bench.desk.graphs.live_trace import LiveTrace
from common_bench.desk.graphs.plots import Graph, font
from common_bench.desk.graphs.tile_trace import TileTrace
from common_bench.desk.look import sheet
from common_bench.desk.look.palette import PAPER
from common_bench.model.trouble import Trouble

KINDS = (".png", ".svg", ".pdf")
MARGIN, HEAD = 24.0, 58.0  # px of the picture
NAME = 20.0  # px over each graph that has a name
SHARP = 3  # dots of a PNG for each px
DOTS_PER_INCH = 96


@dataclass(frozen=True)
class OnPaper:
    """What is drawn: title, whose it is and when, and the graphs under one another, each with its name (empty where its axes
    say enough)."""

    title: str
    under: str
    graphs: Sequence[tuple[str, QGraphicsView]]

    @property
    def file_name(self) -> str:
        words = f"{self.title} {self.under.partition(' · ')[0]}".strip()
        return "".join(each if each.isalnum() or each in " -_" else " " for each in words).strip()[:80] or "graph"

    def size(self) -> QSizeF:
        """px, before it is made sharper."""
        ports = [(name, view.viewport()) for name, view in self.graphs]
        wide = max((port.width() for _, port in ports if port is not None), default=0)
        high = sum(port.height() + (NAME if name else 0.0) for name, port in ports if port is not None)
        return QSizeF(wide + 2 * MARGIN, HEAD + high + 2 * MARGIN)


def copy(shown: OnPaper) -> None:
    """On the clipboard."""
    clipboard = QGuiApplication.clipboard()
    if clipboard is not None:
        clipboard.setImage(_image(shown))


def keep(shown: OnPaper, path: Path) -> Path:
    """As a file of the kind that its name ends in, PNG where it has no ending; one that is there stays. Gives where it is.
    Raises Trouble for another kind, a file that is there already, and a place that cannot be written to."""
    path = path.expanduser()
    path = path if path.suffix else path.with_suffix(".png")
    if path.suffix.lower() not in KINDS:
        raise Trouble("no-such-picture", where=str(path), kinds=", ".join(KINDS))
    if path.exists():
        raise Trouble("picture-there", where=str(path))
    try:
        path.touch()
    except OSError as fault:
        raise Trouble("picture-refused", where=str(path), fault=fault.strerror or str(fault)) from fault
    if path.suffix.lower() == ".png":
        kept = _image(shown).save(str(path))
    elif path.suffix.lower() == ".svg":
        kept = _as_svg(shown, path)
    else:
        kept = _as_pdf(shown, path)
    if not kept:
        raise Trouble("picture-refused", where=str(path), fault="not all of it was written")
    return path


def _image(shown: OnPaper) -> QImage:
    size = shown.size()
    image = QImage(round(size.width() * SHARP), round(size.height() * SHARP), QImage.Format.Format_RGB32)
    image.fill(QColor(PAPER.card))
    _draw(shown, image, SHARP)
    return image


def _as_svg(shown: OnPaper, path: Path) -> bool:
    made = QSvgGenerator()
    made.setFileName(str(path))
    size = shown.size()
    made.setViewBox(QRectF(0, 0, size.width(), size.height()))
    made.setSize(size.toSize())
    made.setTitle(shown.title)
    made.setDescription(shown.under)
    return _draw(shown, made, 1)


def _as_pdf(shown: OnPaper, path: Path) -> bool:
    made = QPdfWriter(str(path))
    size = shown.size()
    page = QPageSize(size * 72 / DOTS_PER_INCH, QPageSize.Unit.Point, "", QPageSize.SizeMatchPolicy.ExactMatch)
    made.setPageSize(page)
    made.setPageMargins(QMarginsF(0, 0, 0, 0))
    made.setTitle(shown.title)
    made.setResolution(DOTS_PER_INCH * SHARP)
    return _draw(shown, made, SHARP)


def _draw(shown: OnPaper, on: QPaintDevice, sharp: float) -> bool:
    """In the colours of paper, whatever theme is worn."""
    worn, sheet.current = sheet.current, PAPER
    try:
        _restyle(shown)
        painter = QPainter(on)
        painter.scale(sharp, sharp)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        wide = shown.size().width() - 2 * MARGIN
        painter.setPen(QColor(PAPER.ink))
        painter.setFont(font(18, bold=True))
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(MARGIN, MARGIN, wide, 26), left, shown.title)
        painter.setPen(QColor(PAPER.soft))
        painter.setFont(font(13))
        painter.drawText(QRectF(MARGIN, MARGIN + 26, wide, 22), left, shown.under)
        top = MARGIN + HEAD
        for name, view in shown.graphs:
            if name:
                painter.setPen(QColor(PAPER.ink))
                painter.setFont(font(13, bold=True))
                painter.drawText(QRectF(MARGIN, top, wide, NAME), left, name)
                top += NAME
            port = view.viewport()
            assert port is not None
            place = QRectF(MARGIN, top, port.width(), port.height())
            if isinstance(view, TileTrace):
                view.paint_on(painter, place)
            else:
                view.render(painter, place, port.rect())
            top += port.height()
        return painter.end()
    finally:
        sheet.current = worn
        _restyle(shown)


def _restyle(shown: OnPaper) -> None:
    for _, view in shown.graphs:
        if isinstance(view, (Graph, LiveTrace, TileTrace)):
            view.restyle()
