"""Over the views of Record while a run is played again: what it is, how far, and how fast."""

from __future__ import annotations

from collections.abc import Callable

from common_bench.desk.look.labels import ShortLabel
from common_bench.desk.look.pieces import Card, button, hbox, say
from common_bench.desk.look.sheet import px
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.replays import played_words


class ReplayBar(Card):
    """Not there while nothing is played. Its bench shows the run in the place of its kit, which is heard all the while."""

    def __init__(self, hub: Hub, changed: Callable[[], object]) -> None:
        super().__init__()
        self.setProperty("tone", "amber")
        self._hub, self._changed = hub, changed
        self.words = ShortLabel("", "name")
        self.slow, self.still = button("Slower (S)", self.slower), button("Stand still (Z)", self.pause)
        self.fast, self.away = button("Faster (F)", self.faster), button("Back to now (Esc)", self.stop, role="main")
        row = hbox(self.words, self.slow, self.still, self.fast, self.away)
        row.setStretch(0, 1)
        self.body.addLayout(row)
        self.body.setContentsMargins(px(13), px(4), px(8), px(4))
        self.hide()

    def slower(self) -> None:
        """The next slower of the speeds that are offered."""
        self._hub.lesson.replays.step_speed(-1)
        self.refresh()

    def faster(self) -> None:
        """The next faster of the speeds that are offered."""
        self._hub.lesson.replays.step_speed(1)
        self.refresh()

    def pause(self) -> None:
        playing = self._hub.lesson.replays.playing
        if playing is not None:
            playing.pause()
            self.refresh()

    def stop(self) -> bool:
        """Back to what is heard; whether a run was played."""
        playing = self._hub.lesson.replays.playing
        if playing is None:
            return False
        self._hub.lesson.replays.stop()
        self._changed()
        return True

    def refresh(self) -> None:
        playing = self._hub.lesson.replays.playing
        self.setVisible(playing is not None)
        if playing is None:
            return
        alias = self._hub.lesson.store.group(playing.run.group).alias
        trouble = playing.trouble
        told = trouble.sentence if trouble is not None else played_words(playing.played)
        say(self.words, f"{alias} run {playing.run.number} · {told}")
        self.still.setText("Go on (Z)" if playing.played.paused else "Stand still (Z)")
