"""The lesson's plan as a file: among one's own plans, or for a colleague."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from common_bench.desk.shell.hub import Hub
from common_bench.lesson.plan_library import keep_plan
from common_bench.model.plan import Plan
from common_bench.model.plan_file import SUFFIX, plan_to_file
from common_bench.model.trouble import Trouble


class PlanFiles:
    """Writes copies; the lesson's own plan stays in its book."""

    def __init__(self, hub: Hub, window: QWidget) -> None:
        self._hub, self._window = hub, window

    @property
    def _plan(self) -> Plan:
        return self._hub.lesson.store.plan

    def keep_in_library(self) -> None:
        """A copy among one's own plans; one of that name is only replaced once somebody says so."""
        plan = self._plan
        try:
            path = keep_plan(plan)
        except Trouble as trouble:
            if trouble.code != "plan-file-there":
                self._hub.tell(trouble.sentence, "red")
                return
            self._hub.tell(
                f"“{plan.name}” is among your plans already.",
                "amber",
                act="Put this in its place",
                then=lambda: self._replace(plan),
            )
            return
        self._hub.tell(f"“{plan.name}” is among your plans: {path}", "good")

    def _replace(self, plan: Plan) -> None:
        if self._hub.try_to(lambda: keep_plan(plan, over=True)):
            self._hub.tell(f"“{plan.name}” stands in the place of the one before.", "good")

    def ask_copy(self) -> None:
        """Asks where to, and writes it there."""
        proposed = Path.home() / f"{self._plan.name}{SUFFIX}"
        path, _ = QFileDialog.getSaveFileName(
            self._window, "A copy for a colleague", str(proposed), f"Plans (*{SUFFIX})", options=QFileDialog.Option.DontConfirmOverwrite
        )  # fmt: skip
        if path:
            self.copy_to(Path(path))

    def copy_to(self, path: Path) -> None:
        """Writes the plan as a file."""
        if self._hub.try_to(lambda: plan_to_file(self._plan, path)):
            self._hub.tell(f"The plan is in {path}", "good")
