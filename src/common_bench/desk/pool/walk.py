"""From a point of the class graph, or a row of the pool's table, back to the run that it came from."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import pyqtgraph as pg
from PyQt6.QtCore import QEvent, QObject, QPointF
from PyQt6.QtGui import QMouseEvent

from common_bench.desk.graphs.plots import Graph, font
from common_bench.desk.look.pieces import Table
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.shell.hub import Hub
from common_bench.model.class_line import ClassResult

NEAR = 14  # px from a point within which it is meant


class _SecondClick(QObject):
    """Hears of a row that is clicked twice, though the first click has had the table filled anew."""

    def __init__(self, table: Table, then: Callable[[Table, int], object]) -> None:
        super().__init__(table)
        self._table, self._then = table, then
        port = table.viewport()
        assert port is not None
        port.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QMouseEvent) and event.type() == QEvent.Type.MouseButtonDblClick:
            self._then(self._table, self._table.rowAt(event.position().toPoint().y()))
            return True
        return super().eventFilter(watched, event)


class WalkBack:
    """A click on a point or a row chooses its bench; a second one, or its key, shows in Work up how its number came about."""

    def __init__(
        self, hub: Hub, graph: Graph, result: Callable[[], ClassResult | None], tables: Sequence[Table],
        name_of: Callable[[str, int], str],
    ) -> None:  # fmt: skip
        """tables: whose rows, clicked twice, walk back too; each is given `runs_of_rows`, the run of every row; name_of: how a
        group is called, where names may be hidden."""
        self._hub, self._graph, self._result = hub, graph, result
        self.runs: dict[Table, list[int]] = {table: [] for table in tables}
        self._name_of, self._around = name_of, 0
        self.opened: pg.TextItem | None = None  # the runs of the group that is pointed at
        graph.scene().sigMouseClicked.connect(self._clicked)
        graph.scene().sigMouseMoved.connect(self.point_at)
        self._filters = [_SecondClick(table, self._from_row) for table in tables]

    def __call__(self) -> None:
        """The chosen row's run, or the first of the chosen bench that counts."""
        shown = next((table for table in self.runs if table.isVisible()), None)
        row = shown.currentRow() if shown is not None else -1
        if shown is not None and 0 <= row < len(self.runs[shown]):
            self._hub.walk_back(self.runs[shown][row])
            return
        own = [
            each.run for each in self._hub.lesson.store.pool_rows() if each.group == self._hub.group and not each.aside
        ]
        if own and self._hub.group in self._hub.lesson.store.pool_shown:
            self._hub.walk_back(own[0])
        else:
            self._hub.tell("Choose a bench whose findings are in the opened pool.", "amber")

    def point_at(self, place: QPointF) -> None:
        """The runs of a group open beside the point that is pointed at, with their values."""
        run = self._run_at(place) if self._graph.isVisible() else None
        group = self._hub.lesson.store.run(run).group if run is not None else 0
        if group == self._around and (self.opened is None or self.opened.scene() is not None):
            return
        if self.opened is not None and self.opened.scene() is not None:
            self._graph.removeItem(self.opened)
        self.opened, self._around = None, group
        result = self._result()
        if run is None or result is None:
            return
        store = self._hub.lesson.store
        own = [point for point in result.points if point.group == group]
        lines = [self._name_of(store.group(group).alias, group)]
        for each in own:
            at = f"  ({result.x_label} {each.x})" if result.x_label else ""
            lines.append(f"run {store.run(each.run).number}: {each.y}{at}")
        across, here = result.across(), next(point for point in own if point.run == run)
        (low, high), (bottom, top) = self._graph.getViewBox().viewRange()
        x, y = across[run], here.y.value
        anchor = (1.08 if x > (low + high) / 2 else -0.08, 1.1 if y < (bottom + top) / 2 else -0.1)
        self.opened = pg.TextItem(
            "\n".join(lines), color=palette().ink, anchor=anchor, fill=palette().card, border=palette().hairline
        )
        self.opened.setFont(font(14))
        self.opened.setZValue(10)
        self._graph.addItem(self.opened, ignoreBounds=True)
        self.opened.setPos(x, y)

    def _from_row(self, table: Table, row: int) -> None:
        if 0 <= row < len(self.runs[table]):
            self._hub.walk_back(self.runs[table][row])

    def _clicked(self, event: Any) -> None:
        run = self._run_at(event.scenePos())
        if run is None:
            return
        if event.double():
            self._hub.walk_back(run)
        else:
            self._hub.select(self._hub.lesson.store.run(run).group)

    def _run_at(self, place: QPointF) -> int | None:
        """The run whose point lies nearest, where one is near."""
        result = self._result()
        if result is None or not result.points:
            return None
        view, across = self._graph.getViewBox(), result.across()
        away = {}
        for point in result.points:
            seen = view.mapViewToScene(QPointF(across[point.run], point.y.value))
            away[point.run] = max(abs(seen.x() - place.x()), abs(seen.y() - place.y()))
        run = min(away, key=lambda each: away[each])
        return run if away[run] <= px(NEAR) else None
