"""Conditions that are asked for with each run, when it begins or ends. Asking never keeps anybody from anything: it is said, and a
key answers."""

from __future__ import annotations

from collections.abc import Sequence

from common_bench.desk.shell.hub import Hub
from common_bench.lesson.words import stated_offers
from common_bench.model.plan import Condition


class ConditionQuestions:
    """Which conditions of which runs are still to be said, oldest first."""

    def __init__(self, hub: Hub) -> None:
        self._hub = hub
        self.waiting: list[tuple[int, str]] = []  # run, condition

    def due(self, runs: Sequence[int], *, at_end: bool) -> str:
        """Notes what is asked of these runs now; gives it in words, empty where nothing is."""
        asked = [each for each in self._hub.lesson.store.plan.stated if each.per_run and each.at_end == at_end]
        self.waiting += [(run, each.name) for run in runs for each in asked if (run, each.name) not in self.waiting]
        return f"{' and '.join(each.name for each in asked)} of {'this run' if len(runs) == 1 else 'these runs'}? C sets it." if asked and runs else ""  # fmt: skip

    def ask(self) -> None:
        """Asks for the oldest, and then for the next, until all are said or somebody leaves."""
        store = self._hub.lesson.store
        there = {run.id: run for run in store.runs()}
        self.waiting = [(run, name) for run, name in self.waiting if run in there and self._condition(name) is not None]
        if not self.waiting:
            self._hub.tell("No condition of a run is asked for now.", "amber")
            return
        run, name = self.waiting[0]
        condition, found = self._condition(name), there[run]
        assert condition is not None
        kept = store.run_stated(run).get(name)
        unit = f" ({condition.unit})" if condition.unit else ""

        def keep(text: str) -> None:
            if text.strip() and text.strip() != str(kept):
                self._hub.lesson.working_up.set_run_condition(run, name, text)
            self.waiting.remove((run, name))
            if self.waiting:
                self._hub.messages.after(self.ask)

        self._hub.messages.ask(
            f"{store.group(found.group).alias} run {found.number}, {name}{unit}:", "Keep", keep, text=str(kept) if kept else "",
            hint=condition.about or "as 0.752 ± 0.002", offers=stated_offers(condition),
        )  # fmt: skip

    def _condition(self, name: str) -> Condition | None:
        return next((each for each in self._hub.lesson.store.plan.stated if each.name == name), None)
