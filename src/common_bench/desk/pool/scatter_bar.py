"""Where the scatter of a class comes from, as two shares of a bar."""

from __future__ import annotations

from PyQt6.QtWidgets import QFrame

from common_bench.desk.look.pieces import hbox
from common_bench.desk.look.sheet import palette, px


class ScatterBar(QFrame):
    """Two shares side by side: within a group, between groups."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(px(14))
        row = hbox(spacing=0)
        self.within, self.between = QFrame(), QFrame()
        for part in (self.within, self.between):
            row.addWidget(part)
        self.setLayout(row)
        self._row = row

    def show_shares(self, within: float, between: float) -> None:
        self.within.setStyleSheet(f"background: {palette().verdigris}; border-radius: 3px;")
        self.between.setStyleSheet(f"background: {palette().copper}; border-radius: 3px;")
        total = within + between or 1.0
        self._row.setStretch(0, max(1, round(100 * within / total)))
        self._row.setStretch(1, max(1, round(100 * between / total)))
