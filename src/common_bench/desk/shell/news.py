"""What has happened, told in the place for messages: cables, restarts, runs without a finding, what keeps all from being
heard."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence

from common_bench.desk.shell.hub import Hub
from common_bench.lesson.plan_effect import in_step_words, progress_of_runs
from common_bench.lesson.reading_words import change_words, shape_words
from common_bench.lesson.run_words import opening_words, unworked_words
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import Trouble
from common_bench.record.events import EngineEvent

AFTER_A_CABLE = 15.0  # s in which a restart belongs to a cable that came back


class News:
    """Guarantees one sentence for one cause, that goes when the cause is over."""

    def __init__(self, hub: Hub) -> None:
        self._hub = hub
        self._back: dict[int, float] = {}
        self._moved: Trouble | None = None  # the book goes on elsewhere, and nobody has said that it is understood
        self._doubts: dict[int, StreamFormat] = {}  # kits that record, and how their lines would be read better
        self._progress = ""  # the sentence of how far something has come that was shown last

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
        elif each.what == "in-step" and lesson.runs_in_step.last is not None:
            found, go_on = lesson.runs_in_step.last, lesson.runs_in_step.look
            words = in_step_words(found)
            self._hub.tell(words, "amber" if found.left else "good", act="Go on" if found.left else "", then=go_on)
        elif each.what == "read-anew" and each.format is not None:
            self._tell_read_anew(each.kit, alias, each.format)
        elif each.what == "run-kept" and each.kit in self._doubts:
            self._offer_reading_anew(each.kit, alias, self._doubts.pop(each.kit))
        elif each.what == "moved" and each.trouble is not None:
            self._moved = each.trouble
            self._tell_moved(each.trouble)
        elif each.what == "failed" and each.trouble is not None:
            self._hub.tell(each.trouble.sentence, "red")

    def tell_opening(self) -> None:
        """What there is to tell of the book's opening stands until somebody has read it."""
        for words in opening_words(self._hub.lesson.notices):
            self._hub.tell(words, "amber", act="Understood", then=self._hub.messages.clear, ended=lambda: False)

    def tell_worked(self, runs: Sequence[int]) -> None:
        """Which of the runs that have been worked up just now give no finding."""
        for words in unworked_words(self._hub.lesson.store, runs):
            self._hub.messages.tell_besides(words)

    def _tell_moved(self, moved: Trouble) -> None:
        """The book goes on elsewhere: that is told again and again until somebody has understood it."""

        def understood() -> None:
            self._moved = None
            self._hub.messages.clear()

        self._hub.tell(moved.sentence, "red", act="Understood", then=understood, ended=lambda: False)

    def tell_whole_trouble(self) -> None:
        """What keeps all kits from being heard or kept stands there, in red, for as long as it lasts."""
        if self._moved is not None and not self._hub.messages.text:
            self._tell_moved(self._moved)
        trouble = self._hub.lesson.roster.snapshot.trouble
        if trouble is not None and self._hub.messages.text != trouble.sentence:
            act: str = ""
            then: Callable[[], object] | None = None
            if trouble.code in ("journal-refused", "journal-memory-full"):
                act, then = "Write it elsewhere", self._hub.write_elsewhere
            elif trouble.code == "engine-stopped" and self._hub.open_again is not None:
                act, then = "Open it again", self._hub.open_again
            self._hub.tell(
                trouble.sentence, "red", act=act, then=then,
                ended=lambda: _code(self._hub.lesson.roster.snapshot.trouble) != trouble.code,
            )  # fmt: skip

    def _tell_read_anew(self, kit: int, alias: str, before: StreamFormat) -> None:
        """Lines are read in another way by itself: told once, with the way back."""
        lesson = self._hub.lesson
        state = lesson.roster.kits.get(kit)
        if state is None or state.format is None:
            return
        self._hub.tell(
            change_words(alias, before, state.format), "amber", act="Take back",
            then=lambda: self._hub.try_to(lambda: lesson.roster.read_as(kit, before)),
        )  # fmt: skip

    def tell_progress(self) -> None:
        """Of what takes long, with a way to stop it; what has a button or still goes on comes first."""
        following, messages = self._hub.lesson.runs_in_step, self._hub.messages
        if following.progress is None:
            self._progress = ""
            return
        words = progress_of_runs(*following.progress)
        if messages.may_give_way:
            self._hub.tell(words, "amber", act="Stop", then=following.stop, ended=lambda: not following.is_busy)
        elif messages.text == self._progress != words:
            messages.say_instead(words)
        else:
            return
        self._progress = words

    def tell_doubts(self) -> None:
        """A kit whose lines look different while it records goes on as it is; that is told once a run."""
        lesson = self._hub.lesson
        for kit, state in lesson.roster.kits.items():
            if state.doubt is not None and state.run is not None and kit not in self._doubts:
                self._doubts[kit] = state.doubt
                group = lesson.store.group_at(kit)
                alias = lesson.store.group(group).alias if group is not None else "A kit"
                self._hub.tell(
                    f"{alias} sends lines that look different from how they are read. The run goes on; when it has ended, "
                    "it can be read anew from its bytes.", "amber",
                )  # fmt: skip

    def _offer_reading_anew(self, kit: int, alias: str, format: StreamFormat) -> None:
        lesson = self._hub.lesson

        def read() -> None:
            runs = lesson.reading_anew.runs_of(kit, format)
            self._hub.later(
                lesson.reading_anew.preview_later(runs[-1:], format),
                lambda made: self._hub.try_to(lambda: lesson.reading_anew.keep(made)),
            )

        self._hub.tell(
            f"The last run of {alias} may have been read wrongly: {shape_words(format)} reads its lines better.", "amber",
            act="Read it anew", then=read,
        )  # fmt: skip

    def _words_of_restart(self, kit: int, alias: str) -> str:
        """A kit that lost its power with its cable starts anew: the one notice then says both."""
        new = "Its clock counts from its start again; the readings stand where they belong."
        if time.monotonic() - self._back.pop(kit, -AFTER_A_CABLE) < AFTER_A_CABLE:
            return f"{alias} is connected again, and has restarted; what is missing is kept as a gap. {new}"
        return f"{alias} has restarted. {new}"


def _code(trouble: Trouble | None) -> str:
    return trouble.code if trouble is not None else ""
