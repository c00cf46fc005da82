"""What earlier runs would become with the calibrations that are kept now, before anything is changed."""

from __future__ import annotations

from collections.abc import Callable

from common_bench.desk.look.labels import label
from common_bench.desk.look.pieces import Card, Cell, Table, button, hbox, say
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.worked_runs import Reworked
from common_bench.model.measured import NO_VALUE


class ApplyPanel(Card):
    """A table of runs with their findings as they are and as they would be."""

    def __init__(self, apply: Callable[[], object], leave: Callable[[], object]) -> None:
        super().__init__("Earlier runs with this calibration")
        self.words = label("", "soft", wrap=True)
        self.table = Table(["run", "finding", "made with", "would be"], left=(0, 1), stretch=1)
        self.yes = button("Apply to them", apply, role="main")
        self.no = button("Leave them as they are (Esc)", leave)
        self.add(self.words, self.table)
        self.body.addLayout(hbox(None, self.no, self.yes))
        self.hide()
        self.reworked: list[Reworked] = []

    def preview(self, lesson: OpenLesson, reworked: list[Reworked]) -> None:
        self.reworked = reworked
        rows: list[list[Cell]] = []
        for each in reworked:
            name = f"{lesson.store.group(each.run.group).alias} run {each.run.number}"
            if each.why_not is not None:
                rows.append([name, (each.why_not.sentence, "amber"), "", ""])
            for finding in each.after:
                before = each.before.get(finding.name)
                same = before is not None and before.measured == finding.measured
                rows.append([
                    name, finding.name, str(before.measured) if before else NO_VALUE,
                    (str(finding.measured), "soft" if same else ""),
                ])  # fmt: skip
            if not each.after and each.why_not is None:
                rows.append([name, "no finding", "", ""])
        self.table.fill(rows)
        self.table.fit(16)
        count = len(reworked)
        say(self.words, f"{count} run{'s' if count != 1 else ''}. Raw readings stay as they are; findings and the pool follow; Ctrl+Z takes it back.")  # fmt: skip
        self.yes.setText(f"Apply to {count} run{'s' if count != 1 else ''} (Enter)")
        self.show()
