"""Runs that were worked up by other lines than the plan has now: told, shown what they would give, done when asked."""

from __future__ import annotations

from common_bench.desk.shell.hub import Hub
from common_bench.lesson.working_up import Reworked


class Anew:
    """Guarantees that no run is worked up by other lines before somebody has seen what comes of it and said so."""

    def __init__(self, hub: Hub) -> None:
        self._hub = hub

    def offer(self, done: str) -> None:
        """Runs keep the lines that they were made with; to work them up by those of now is offered."""
        runs = self._hub.lesson.working_up.runs_by_other_lines()
        if runs:
            count = f"{len(runs)} run{'s' if len(runs) != 1 else ''}"
            self._hub.tell(
                f"{done} {count} kept the lines of before.",
                "good",
                act="What would they give now?",
                then=self.preview,
            )

    def preview(self) -> None:
        """Says what the lines of now make of the runs of before; does it once somebody says so."""
        self._hub.tell("The runs of before are worked up by the lines of now …", "good")
        self._hub.later(self._hub.lesson.working_up.preview_lines_later(), self._offer_result)

    def _offer_result(self, reworked: list[Reworked]) -> None:
        able = [each for each in reworked if each.why_not is None]
        refused = [each for each in reworked if each.why_not is not None]
        why = (
            f" {len(refused)} cannot, and stay as they are: {refused[0].why_not.what}"
            if refused and refused[0].why_not
            else ""
        )
        if not able:
            self._hub.tell(f"None of them can be worked up by the lines of now.{why}", "amber")
            return
        first = able[0].after[0] if able[0].after else None
        example = f", the first with {first.name} = {first.measured}" if first is not None else ""
        self._hub.tell(
            f"{len(able)} of {len(reworked)} runs can be worked up anew{example}.{why}", "amber", act="Do it",
            then=lambda: self._work_anew(able), ended=lambda: False,
        )  # fmt: skip

    def _work_anew(self, reworked: list[Reworked]) -> None:
        self._hub.messages.clear()
        if self._hub.try_to(lambda: self._hub.lesson.working_up.work_up_anew(reworked)):
            self._hub.tell(
                f"{len(reworked)} runs are worked up by the lines of now.", "good", act="Take back", then=self._hub.undo
            )
