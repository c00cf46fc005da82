"""Several pools of one plan looked at together: every class with its finding, what they scatter, all groups on one graph."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from PyQt6.QtWidgets import QFileDialog, QWidget

from common_bench.desk.graphs.plots import Graph
from common_bench.desk.look.emblems import SYMBOLS
from common_bench.desk.look.labels import label
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, Cell, Table, button, hbox, pretty, say, vbox
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.pool.class_drawing import draw_ground
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.pools_together import PoolsTogether, Source
from common_bench.lesson.sharing import PooledTogether, pooled_together
from common_bench.model.bench import emblem_for
from common_bench.model.measured import NO_VALUE, u_words, written
from common_bench.model.shared_pool import SharedPool

HELP = "Packages (.benchpool) and bench books of other classes with this plan"
LARGEST, SMALLEST = 15, 7  # px of points: where two classes lie on one another, both are seen
Asks = Callable[..., None]


def _scatter_words(between: float, unit: str) -> str:
    if not between > 0:
        return "they scatter by no more than they state"
    return f"they scatter by {u_words(between)} {unit} beyond what they state"


class TogetherView(QWidget):
    """Guarantees that it shows what is in the pools and keeps nothing of them."""

    def __init__(self, hub: Hub, ask: Asks) -> None:
        """ask: asks a question in the place for messages."""
        super().__init__()
        self._hub, self._ask = hub, ask
        self.pools = PoolsTogether(hub.lesson.store)
        self.found: PooledTogether | None = None
        self.graph_card, self.graph = Card(), Graph()
        self.graph.setMinimumHeight(px(200))
        self.graph_card.add(self.graph)
        self.classes_card = Card("Classes")
        self.classes = Table(["class", "groups", "runs", "finding", "from the mean (u)"], left=(0,), stretch=0)
        self.classes_card.add(self.classes)
        self.mean_card = Card("What the classes find")
        self.mean, self.mean_words = label("", "finding", wrap=True), label("", "soft", wrap=True)
        self.mean_card.add(self.mean, self.mean_words)
        self.told_card, self.told = Card("To be known"), label("", "soft", wrap=True)
        self.told_card.add(self.told)
        self.more_card = Card("More pools")
        self.files = button("Add packages or books…", self.choose_files)
        self.department = button("Ask a department…", self.ask_department)
        self.more_words = label(
            "Another class's package (.benchpool), its book, or a department's server.", "soft", wrap=True
        )
        self.more_card.add(self.more_words, self.files, self.department)
        left = vbox(self.graph_card, self.classes_card, spacing=11)
        left.setStretch(0, 1)
        right = vbox(self.mean_card, self.told_card, self.more_card, None, spacing=11)
        body = hbox(left, right, spacing=11)
        body.setStretch(0, 67)
        body.setStretch(1, 33)
        body.setContentsMargins(0, 0, 0, 0)
        self.setLayout(body)

    # what is done

    def look(self) -> None:
        """Has a worker read all pools, and shows them."""
        own: list[Callable[[], SharedPool]] = []
        if not self._hub.try_to(lambda: own.append(self.pools.own())):
            return
        lessons, added = self.pools.of_lessons(), list(self.pools.added)
        self._later(lambda: pooled_together(own[0](), [*lessons(), *added]), self._show)

    def _later(self, work: Callable[[], object], then: Callable[..., object]) -> None:
        self._hub.later(self._hub.lesson.working_up.submit(work), then)

    def choose_files(self) -> None:
        found, _ = QFileDialog.getOpenFileNames(self, HELP, str(self._hub.lesson.book.path.parent), "Pools (*.benchpool *.benchbook)")  # fmt: skip
        self.add([Path(each) for each in found])

    def add(self, files: list[Path]) -> None:
        for path in files:
            self._later(self.pools.of_file(path), self._added)

    def ask_department(self) -> None:
        self._ask(
            "Where is the department's pool?", "Ask it", lambda address: self._later(self.pools.of_department(address.strip()), self._added),
            hint="postgresql://reader@server/pools",
        )  # fmt: skip

    def _added(self, source: Source) -> None:
        self.pools.added = [*(each for each in self.pools.added if each[0] != source[0]), source]
        self._hub.tell(
            f"{source[0]}: {len(source[1].runs)} runs. They are looked at, and nothing of them is kept.", "good"
        )
        self.look()

    # what is seen

    def _show(self, found: PooledTogether) -> None:
        self.found = found
        self._show_graph(found)
        self._show_classes(found)
        many = found.found
        whole = many.whole.finding
        name = many.whole.finding_name or "finding"
        if many.finding is not None:
            unit = many.finding.unit
            say(self.mean, f"{name} = {written(many.finding.value, many.finding.u, unit)}")
            words = [f"mean of {len(many.classes)} classes, each weighted by its own uncertainty and by what they scatter", _scatter_words(many.between, unit)]  # fmt: skip
        else:
            say(self.mean, f"{name} = {written(whole.value, whole.u, whole.unit)}" if whole is not None else NO_VALUE)
            words = ["one class so far: a mean of classes needs two" if len(many.classes) < 2 else many.whole.why_no_line or "not enough classes find something"]  # fmt: skip
        if whole is not None:
            words.append(f"all groups as one class: {written(whole.value, whole.u, whole.unit)}")
        say(self.mean_words, pretty("\n".join(words)))
        told = [*many.told, *found.left]
        self.told_card.setVisible(bool(told))
        say(self.told, "\n".join(told))

    def _show_classes(self, found: PooledTogether) -> None:
        many, rows = found.found, list[list[Cell]]()
        for at, each in enumerate(many.classes):
            finding = each.result.finding if each.result is not None else None
            shown = each.why or NO_VALUE if finding is None else written(finding.value, finding.u, finding.unit)
            away = NO_VALUE
            if finding is not None and many.finding is not None and finding.u > 0:
                size = (finding.u**2 + many.between**2) ** 0.5
                away = f"{(finding.value - many.finding.value) / size:+z.1f}".replace("-", "−")
            groups = len({row.group for row in each.rows})
            rows.append([(each.name, self._colour(at)), f"{groups}", f"{len(each.rows)}", shown, away])
        self.classes.fill(rows)
        self.classes.fit(6)

    @staticmethod
    def _colour(at: int) -> str:
        return hue(palette(), emblem_for(at).colour)

    def _show_graph(self, found: PooledTogether) -> None:
        graph, many = self.graph, found.found
        result = many.whole
        graph.wipe()
        self.graph_card.setVisible(bool(result.points))
        if not result.points:
            return
        across, left, right = draw_ground(graph, result)
        for at, each in enumerate(many.classes):
            groups = {row.group for row in each.rows}
            own = [point for point in result.points if point.group in groups]
            if not own:
                continue
            x, y = np.array([across[point.run] for point in own]), np.array([point.y.value for point in own])
            u_x = np.array([point.x.u if result.x_label else 0.0 for point in own])
            graph.errors(x, y, u_x, np.array([point.y.u for point in own]), self._colour(at))
            graph.points(x, y, SYMBOLS[emblem_for(at).shape], self._colour(at), size=max(SMALLEST, LARGEST - 3 * at))
            named = np.argsort(y)[::-1][at * len(y) // len(many.classes)]  # each beside a point of its own
            graph.note(f"  {each.name}", float(x[named]), float(y[named]), self._colour(at))
        graph.setXRange(left, right, padding=0)
        graph.frame_values([point.y.value for point in result.points], room=0.12)
