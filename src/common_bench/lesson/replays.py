"""A run of the lesson played again in the views of Record, at most one at a time."""

from __future__ import annotations

from common_bench.lesson.store import LessonStore
from common_bench.model.trouble import PlanTrouble
from common_bench.record.replaying import Played, RunReplay
from common_bench.record.rules import Rule, rule_of
from common_bench.record.snapshot import KitState

STEPS = (0.1, 0.25, 0.5, 1.0, 2.0, 5.0, 10.0, 25.0, 100.0)  # speeds that are offered


class Replays:
    """Guarantees that what is played again is shown as such and never recorded: kits are heard all the while."""

    def __init__(self, store: LessonStore) -> None:
        self._store = store
        self._playing: RunReplay | None = None

    @property
    def group(self) -> int | None:
        """The bench whose run is played; None where none is."""
        return self._playing.run.group if self._playing is not None else None

    @property
    def playing(self) -> RunReplay | None:
        return self._playing

    def state(self, group: int) -> KitState | None:
        return self._playing.state if self._playing is not None and self._playing.run.group == group else None

    def play(self, run: int, speed: float = 1.0) -> RunReplay:
        """Begins to play a run from its beginning, in the place of what was played. Raises Trouble where it has nothing."""
        self.stop()
        try:
            rule = rule_of(self._store.plan, self._store.workings.kinds)
        except PlanTrouble:
            rule = Rule()
        self._playing = RunReplay(self._store.book, self._store.run(run), self._store.channels, rule, speed=speed)
        return self._playing

    def step_speed(self, by: int) -> None:
        """The next faster or slower of the speeds that are offered."""
        if self._playing is None:
            return
        now = self._playing.played.speed
        at = min(range(len(STEPS)), key=lambda each: abs(STEPS[each] - now))
        wanted = STEPS[min(len(STEPS) - 1, max(0, at + by))]
        self._playing.faster(wanted / now)

    def stop(self) -> None:
        """Back to what is heard."""
        if self._playing is not None:
            self._playing.stop()
        self._playing = None


def played_words(played: Played) -> str:
    """`played again · 4.2 of 24.6 s · 1 ×`"""
    if played.ended:
        return f"played to its end · {played.whole:.1f} s"
    still = " · stands still" if played.paused else ""
    return f"played again · {max(0.0, played.seconds):.1f} of {played.whole:.1f} s · {played.speed:g} ×{still}"
