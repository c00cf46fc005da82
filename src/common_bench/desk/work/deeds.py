"""What is done to a run in Work up, each with the way back: sent, set aside as a whole or in part, practice, removed, taken out."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from common_bench.desk.shell.hub import Hub
from common_bench.lesson.exporting import keep_run_csv, keep_runs_csv
from common_bench.lesson.removing import remove_as_typed, run_to_remove
from common_bench.model.run import Run


class RunDeeds:
    """current: the run that is shown; many: those that are marked in the list of all; removed: told that the run that is shown is
    gone; changed: that what is drawn of it does not stand."""

    def __init__(
        self, hub: Hub, current: Callable[[], Run | None], many: Callable[[], list[int]], removed: Callable[[], object],
        changed: Callable[[], object],
    ) -> None:  # fmt: skip
        self.hub, self._current, self._many, self._removed, self._changed = hub, current, many, removed, changed

    def send_to_pool(self) -> None:
        """Runs that are marked, else all of this bench's, that count and are not there."""
        lesson, many = self.hub.lesson, self._many()
        if many:
            self.hub.send_to_pool([run for run in lesson.pooling.to_send() if run in many], f"{len(many)} marked runs")
            return
        there = lesson.store.pooled()
        runs = (
            [run.id for run in lesson.store.kept_runs(self.hub.group) if run.id not in there] if self.hub.group else []
        )
        self.hub.send_to_pool(runs, self.hub.alias)

    def send_all(self) -> None:
        """Of every bench, the runs that count, have a finding and are not there."""
        self.hub.send_to_pool(self.hub.lesson.pooling.to_send(), "The class")

    def ask_aside(self) -> None:
        run, lesson, many = self._current(), self.hub.lesson, self._many()
        if many:
            words = f"Set {len(many)} runs aside"
            self.hub.messages.ask(
                f"Why are the {len(many)} marked runs set aside?", "Set aside", lambda why: lesson.working_up.set_aside_runs(many, why, words),
                hint="as: the string slipped",
            )  # fmt: skip
            return
        if run is None:
            return
        if run.aside:
            self.hub.try_to(lambda: lesson.working_up.take_back_run(run.id))
            return
        alias = lesson.store.group(run.group).alias
        self.hub.messages.ask(
            f"Why is {alias} run {run.number} set aside?", "Set aside", lambda why: lesson.working_up.set_aside_run(run.id, why),
            hint="as: bumped the string",
        )  # fmt: skip

    def turn_practice(self) -> None:
        """A run for practice counts nowhere."""
        run = self._current()
        if run is not None and self.hub.try_to(
            lambda: self.hub.lesson.recording.set_practice(run.id, practice=not run.practice)
        ):
            words = "counts" if run.practice else "was practice, and counts nowhere"
            self.hub.tell(f"Run {run.number} {words}.", "good", act="Take back", then=self.hub.undo)

    def change_moment(self, row: int, text: str) -> None:
        """A marked moment of the run by its place; other words, or none, which take it off."""
        run, lesson = self._current(), self.hub.lesson
        moments = lesson.store.moments(run.id) if run is not None else []
        if row < len(moments) and text.strip() != moments[row].text:
            self.hub.try_to(lambda: lesson.recording.change_moment(moments[row].id, text))

    def keep_note(self, words: str) -> None:
        run = self._current()
        if run is not None and words != run.note:
            self.hub.try_to(lambda: self.hub.lesson.recording.set_note(run.id, words))

    def ask_removal(self) -> None:
        """The only thing that takes raw bytes away: what is to go has to be typed."""
        run = self._current()
        if run is None:
            return
        whole, alias = run_to_remove(self.hub.lesson, run.id)

        def remove(typed: str) -> None:
            told = remove_as_typed(self.hub.lesson, run.id, typed)
            self._removed()
            self.hub.history.clear()  # steps of what is gone cannot be taken back
            self.hub.book_changed.emit()
            self.hub.tell(told, "amber")

        self.hub.messages.ask(
            f"Gone for good, bytes and all. Type {whole} for this run, {alias} for its group:", "Remove for good", remove,
            hint="nothing brings it back",
        )  # fmt: skip

    def leave_out(self, stretch: Callable[[], tuple[float, float]], left: Callable[[], object], proposed: str) -> None:
        """Asks why a stretch is set aside, which may be dragged meanwhile; left: called when it is answered or left; proposed: what
        is said of the stretch that is shown at first."""
        run = self._current()
        if run is None:
            return

        def keep(why: str) -> None:
            low, high = stretch()
            done = f"{low:.2f} s to {high:.2f} s set aside: {why.strip()}."
            self.hub.rework(self.hub.lesson.working_up.leaving_out(run.id, (low, high), why), lambda: self._tell(done))

        self.hub.messages.ask(
            f"{proposed}Drag its edges; why is it set aside?", "Set aside", keep, hint="as: touched the wire", left=left
        )

    def leave_out_one(self, t: float, event: str) -> None:
        """Asks why the reading nearest to t s is set aside, or the event of a line."""
        run, working_up = self._current(), self.hub.lesson.working_up
        if run is None:
            return

        def keep(why: str) -> None:
            work = (
                working_up.leaving_out_event(run.id, event, t, why)
                if event
                else working_up.leaving_out_reading(run.id, t, why)
            )
            self.hub.rework(work, lambda: self._tell(f"The {what} at {t:.2f} s is set aside."))

        what = event or "reading"
        self.hub.messages.ask(
            f"Why is the {what} at {t:.2f} s set aside?", "Set aside", keep, hint="as: touched the wire"
        )

    def choose_named(self, name: str, low: float, high: float) -> None:
        """A span with a name, dragged to other ends."""
        run = self._current()
        spans = self.hub.lesson.spans
        if run is not None and not self.hub.try_to(
            lambda: self.hub.rework(spans.choosing_named_span(run.id, name, (low, high)), lambda: None)
        ):
            self._changed()

    def ask_span(self) -> None:
        """The span that is used, or one with a name, typed."""
        run, spans = self._current(), self.hub.lesson.spans
        if run is None:
            return
        names = spans.span_names
        which = (
            f"The span that is used, or one by its name ({', '.join(names)}):" if names else "The span that is used:"
        )
        hint = f"as: {names[0]}: 2 s to 14 s" if names else "as: 2 s to 14 s, from let_go to 10 s after, as the plan"

        def keep(text: str) -> None:
            self.hub.rework(
                spans.typing_span(run.id, text), lambda: self._tell(f"Used in run {run.number}: {text.strip()}.")
            )

        self.hub.messages.ask(which, "Use it", keep, hint=hint)

    def take_in(self, at: int) -> None:
        run = self._current()
        if run is not None:
            work = self.hub.lesson.working_up.taking_in
            self.hub.try_to(lambda: self.hub.rework(work(run.id, at), lambda: self._tell("It counts again.")))

    def _tell(self, done: str) -> None:
        self.hub.tell(done, "good", act="Take back", then=self.hub.undo)

    def take_all_out(self) -> None:
        """All runs of the lesson as a table; asks where."""
        lesson = self.hub.lesson
        proposed = Path.home() / f"{lesson.store.plan.name} runs.csv"

        def keep(text: str) -> None:
            kept = keep_runs_csv(lesson, Path(text.strip() or proposed).expanduser())
            self.hub.tell(f"All runs with their conditions and findings are in {kept}", "good")

        self.hub.messages.ask("All runs of this lesson as CSV:", "Keep", keep, text=str(proposed))

    def take_out(self, *, all_runs: bool = False) -> None:
        """The run's data as CSV, or all runs; asks where."""
        run, lesson = self._current(), self.hub.lesson
        if all_runs:
            self.take_all_out()
        if all_runs or run is None:
            return
        proposed = Path.home() / f"{self.hub.alias} run {run.number}.csv"

        def keep(text: str) -> None:
            place, read = Path(text.strip() or proposed).expanduser(), lesson.working_up.reader(run.id)
            self.hub.soon(
                lesson.working_up.submit(lambda: keep_run_csv(read(), place)),
                lambda kept: self.hub.tell(f"All readings with units and uncertainties are in {kept}", "good"),
            )

        self.hub.messages.ask("The data of this run as CSV:", "Keep", keep, text=str(proposed))
