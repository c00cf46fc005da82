"""What has happened, told in the place for messages: cables, restarts, runs without a finding, what keeps all from being
heard."""

from __future__ import annotations

import time

from common_bench.desk.shell.hub import Hub
from common_bench.model.trouble import Trouble
from common_bench.record.events import EngineEvent

AFTER_A_CABLE = 15.0  # s in which a restart belongs to a cable that came back


class News:
    """Guarantees one sentence for one cause, that goes when the cause is over."""

    def __init__(self, hub: Hub) -> None:
        self._hub = hub
        self._back: dict[int, float] = {}

    def tell_event(self, each: EngineEvent) -> None:
        lesson = self._hub.lesson
        group = lesson.store.group_at(each.kit) if each.kit else None
        alias = lesson.store.group(group).alias if group else "A kit"
        if each.what == "lost" and each.trouble is not None:
            again = "Plug it in again; it connects by itself, and what is missing is kept as a gap."
            kit = each.kit
            self._hub.tell(
                f"{alias}: {each.trouble.what} {again}", "red",
                ended=lambda: kit not in lesson.roster.kits or lesson.roster.kits[kit].trouble is None,
            )  # fmt: skip
        elif each.what == "back":
            self._back[each.kit] = time.monotonic()
            self._hub.tell(f"{alias} is connected again; what is missing is kept as a gap.", "good")
        elif each.what == "restarted":
            self._hub.tell(self._words_of_restart(each.kit, alias), "amber")
        elif each.what == "run-worked":
            self._tell_if_not_worked_up(each.run)
        elif each.what == "failed" and each.trouble is not None:
            self._hub.tell(each.trouble.sentence, "red")

    def _tell_if_not_worked_up(self, run: int) -> None:
        found = self._hub.lesson.store.run(run)
        if found.trouble is not None:
            alias = self._hub.lesson.store.group(found.group).alias
            self._hub.messages.tell_besides(
                f"{alias} run {found.number} is kept, without a finding: {found.trouble.trouble.sentence}"
            )

    def tell_whole_trouble(self) -> None:
        """What keeps all kits from being heard or kept stands there, in red, for as long as it lasts."""
        trouble = self._hub.lesson.roster.snapshot.trouble
        if trouble is not None and self._hub.messages.text != trouble.sentence:
            self._hub.tell(
                trouble.sentence, "red", ended=lambda: _code(self._hub.lesson.roster.snapshot.trouble) != trouble.code
            )

    def _words_of_restart(self, kit: int, alias: str) -> str:
        """A kit that lost its power with its cable starts anew: the one notice then says both."""
        new = "Its clock counts from its start again; the readings stand where they belong."
        if time.monotonic() - self._back.pop(kit, -AFTER_A_CABLE) < AFTER_A_CABLE:
            return f"{alias} is connected again, and has restarted; what is missing is kept as a gap. {new}"
        return f"{alias} has restarted. {new}"


def _code(trouble: Trouble | None) -> str:
    return trouble.code if trouble is not None else ""
