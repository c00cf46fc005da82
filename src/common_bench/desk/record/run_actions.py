"""What is done in Record: runs begun and ended, points taken, moments marked, each with the way back."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from common_bench.desk.record.asking import ConditionQuestions
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.point_words import state_words
from common_bench.lesson.run_words import listed
from common_bench.lesson.steps import BeginStep, EndStep, counted_runs
from common_bench.lesson.store import LessonStore
from common_bench.lesson.words import bench_note
from common_bench.model.trouble import Trouble

EXTRA = ("count", "replace", "leave out")
MOST_NAMED = 8  # benches in one sentence


class RunActions:
    """Guarantees that whatever begins or ends says on which benches, why not on the others, and how it is taken back."""

    def __init__(self, hub: Hub, changed: Callable[[], object]) -> None:
        """changed: told that points were taken or set aside."""
        self.hub, self._changed = hub, changed
        self.questions = ConditionQuestions(hub)
        self._extra: str | None = None  # what runs beyond those of the plan mean, once somebody has said so

    @property
    def lesson(self) -> OpenLesson:
        return self.hub.lesson

    @property
    def store(self) -> LessonStore:
        return self.hub.lesson.store

    @property
    def by_points(self) -> bool:
        return bool(self.lesson.point_taking.name)

    def busy(self) -> list[int]:
        """Benches on which a run is under way, or waits to begin."""
        return [group.id for group in self.store.groups if self.lesson.roster.busy(group.id)]

    def any_runs(self) -> bool:
        """Whether a run is under way anywhere, not only waited for."""
        return any(self.lesson.roster.recording(group.id) for group in self.store.groups)

    def able(self) -> tuple[list[int], dict[int, list[str]]]:
        """Benches that could record, and what those of them lack that are not ready for it."""
        able = [each.id for each in self.store.groups if not self.lesson.roster.why_not_ready(each.id)]
        return able, {group: told for group in able if (told := self.lesson.recording.lacks(group))}

    # runs

    def record_all(self) -> None:
        """All that are ready; where none is, all that can all the same. Or the end of all runs."""
        busy = self.busy()
        if busy:
            self._end(busy)
            return
        groups = [each.id for each in self.store.groups]
        able, lacking = self.able()
        if lacking and len(lacking) < len(able):
            self._begin([group for group in groups if group not in lacking], lacking)
        else:
            self._begin(groups)

    def record_this(self) -> None:
        """This bench, whatever it lacks, or the end of its run; point by point, the next point of all."""
        group = self.hub.group
        if self.by_points and self.busy():
            self.take_points()
        elif group:
            if self.lesson.roster.busy(group):
                self._end([group])
            else:
                self._begin([group])

    def _begin(self, groups: list[int], lacking: Mapping[int, list[str]] | None = None) -> None:
        """lacking: benches that could record and lack something, which are left out until somebody says so."""
        extra = [group for group in groups if len(self.store.kept_runs(group)) >= self.store.plan.runs_per_group]
        if extra and self._extra is None:
            self._ask_about_extra(groups, extra, lacking)
        else:
            self._begin_now(groups, lacking)

    def _ask_about_extra(self, groups: list[int], extra: list[int], lacking: Mapping[int, list[str]] | None) -> None:
        """More runs than the plan wants: what they mean is asked once in a lesson."""

        def answered(text: str) -> None:
            self._extra = extra_answer(text)
            self._begin_now(groups, lacking)

        who = self.store.group(extra[0]).alias if len(extra) == 1 else f"{len(extra)} benches"
        self.hub.messages.ask(
            f"{who}: all {self.store.plan.runs_per_group} planned runs are kept. Count extra runs, replace the last ones, or leave them out?",
            "Record", answered, text=EXTRA[0], offers=EXTRA,
        )  # fmt: skip

    def look_at_extra(self, run: int) -> None:
        """A run is worked up: where it is one more than the plan wants, what was answered is done."""
        found = self.store.run(run)
        before = [each for each in self.store.kept_runs(found.group) if each.id != run]
        is_newest = all(each.number < found.number for each in before)
        counts = not (found.aside or found.practice) and found.begin is not None
        if (
            self._extra in (None, EXTRA[0])
            or len(before) < self.store.plan.runs_per_group
            or not (is_newest and counts)
        ):
            return
        if self._extra == EXTRA[1]:
            self.hub.try_to(
                lambda: self.lesson.working_up.set_aside_run(before[-1].id, f"replaced by run {found.number}")
            )
        else:
            self.hub.try_to(lambda: self.lesson.recording.set_practice(run, practice=True))

    def _begin_now(self, groups: list[int], lacking: Mapping[int, list[str]] | None = None) -> None:
        """lacking: benches that could record and lack something, which are left out until somebody says so."""
        begun: list[int] = []
        if not self.hub.try_to(lambda: begun.extend(self.lesson.recording.begin_runs(groups))):
            return
        left = [f"{self.store.group(g).alias}: {bench_note(self.lesson.roster.why_not_ready(g)) or 'it was not heard in that moment'}" for g in groups if g not in begun]  # fmt: skip
        if not begun:
            self.hub.tell(f"Nothing is recorded. {' · '.join(left)}.", "red")
            return
        by_group = {g: self.store.runs(g)[-1].id for g in begun}
        runs = [*by_group.values()]
        self.hub.remember(BeginStep(self.lesson, by_group))
        who = f"{len(begun)} of {len(groups)} benches" if left else _names(self.store, begun)
        waits = any(self.lesson.roster.why_not_ready(g) == "waits" for g in begun)
        rule = self.store.plan.rule.begins
        told = (
            f"{who} {'wait' if len(begun) > 1 else 'waits'}: the run begins {rule}." if waits else f"Recording {who}."
        )
        told += " This machine is busy: it happens in a moment." if self.lesson.recording.is_late else ""
        told += f" Not ready: {' · '.join(left)}." if left else ""
        told = f"{told} {self.questions.due(runs, at_end=False)}".rstrip()
        if lacking:
            out = " · ".join(f"{self.store.group(g).alias}: {words[0]}" for g, words in lacking.items())
            self.hub.tell(
                f"{told} Left out: {out}.", "amber", act="Record them anyway", then=lambda: self._begin(list(lacking))
            )
            return
        missing = sorted({words for g in begun for words in self.lesson.recording.lacks(g)})
        told += f" All the same: {', '.join(missing)}." if missing else ""
        self.hub.tell(told, "amber" if left or missing else "good", act="Take back", then=self.hub.undo)

    def _end(self, groups: list[int]) -> None:
        """Ends runs and says so where it was done, with the way back: they then go on as if nothing had been."""
        last = max((run.seconds for g in groups if (run := self.lesson.roster.run(g)) is not None), default=0.0)
        ended: list[int] = []
        if not self.hub.try_to(lambda: ended.extend(self.lesson.recording.end_runs(groups))):
            return
        if not ended:
            waits = "wait" if len(groups) > 1 else "waits"
            self.hub.tell(f"Called off: {_names(self.store, groups)} {waits} no longer.", "good")
            return
        self.hub.remember(EndStep(self.lesson, ended))
        is_are = "run of " + _names(self.store, groups) if len(ended) == 1 else f"{len(ended)} runs"
        self.hub.tell(
            f"{is_are[:1].upper()}{is_are[1:]} ended at {last:.1f} s and {'is' if len(ended) == 1 else 'are'} kept.", "good",
            act="Take back: go on recording", then=self.hub.undo,
        )  # fmt: skip

    def run_ended(self, run: int) -> None:
        """A run has ended by whatever ended it: what is asked at its end is said."""
        if any(each.id == run for each in self.store.runs()):
            found = self.store.run(run)
            asked = self.questions.due([run], at_end=True) if found.begin is not None or found.state != "closed" else ""
            if asked:
                self.hub.messages.tell_besides(f"{self.store.group(found.group).alias} run {found.number}: {asked}")

    # points

    def take_points(self, groups: list[int] | None = None, *, unmoved: bool = False) -> None:
        """The next point on every bench that stands still, or on some; the others say why not. unmoved: also where nothing has moved."""
        taking = self.lesson.point_taking
        chosen = groups or [each.id for each in self.store.groups]
        told: list[tuple[list[int], dict[int, str]]] = []

        def take() -> None:
            done, left, _ = taking.take(chosen, unmoved=unmoved)
            told.append((done, {group: state_words(taking.state(group))[0] for group in left}))

        if not self.hub.try_to(take):
            return
        done, left = told[0]
        why = " · ".join(self._why_not(left))
        still = [group for group in left if taking.state(group).state == "not-moved"]
        if not done:
            act = "Nothing moves: take all the same" if still else ""
            self.hub.tell(
                f"No point is taken. {why}.", "amber", act=act, then=lambda: self.take_points(still, unmoved=True)
            )
        else:
            count = f"{len(done)} point{'s' if len(done) != 1 else ''} taken."
            self.hub.tell(f"{count} {f'{why}.' if why else ''}".strip(), "good", act="Take back", then=self.hub.undo)
        self._changed()

    def _why_not(self, left: Mapping[int, str]) -> list[str]:
        """`Basalt and Chalk: set the next`, those of which the same is to be said together."""
        alike: dict[str, list[str]] = {}
        for group, words in left.items():
            if words != "done":
                alike.setdefault(words, []).append(self.store.group(group).alias)
        return [f"{listed(names)}: {words}" for words, names in alike.items()]

    def take_again(self) -> None:
        """The last point of this bench is set aside and proposed again."""
        group = self.hub.group
        if self.by_points and group and self.hub.try_to(lambda: self.lesson.point_taking.take_again(group)):
            self.hub.tell(
                f"The last point of {self.hub.alias} is set aside; take it again.", "good", act="Take back",
                then=self.hub.undo,
            )  # fmt: skip
            self._changed()

    # moments

    def mark(self, *, everywhere: bool = False) -> None:
        """A remark, stamped with the moment at which the key was pressed: on this bench, or on all that record."""
        groups = [each.id for each in self.store.groups] if everywhere else [self.hub.group] if self.hub.group else []
        runs = [run for group in groups if (run := self.lesson.roster.run(group)) is not None]
        if not runs:
            who = "No bench is recording" if everywhere else f"{self.hub.alias} is not recording"
            self.hub.tell(f"{who}, so there is no moment to mark.", "amber")
            return
        moments = {run.id: run.seconds for run in runs}
        at = (
            f"On {counted_runs(len(runs))} now:"
            if everywhere
            else f"At {runs[0].seconds:.1f} s of {self.hub.alias} run {runs[0].number}:"
        )
        self.hub.messages.ask(
            at, "Mark", lambda words: self._keep_moment(moments, words),
            hint=f"as: {', '.join(self.store.plan.remarks) or 'bumped the string'}", offers=self.store.plan.remarks, text="",
        )  # fmt: skip

    def _keep_moment(self, moments: Mapping[int, float], words: str) -> None:
        self.lesson.recording.mark_all(moments, words.strip() or "marked")
        where = f"at {next(iter(moments.values())):.1f} s" if len(moments) == 1 else f"on {len(moments)} runs"
        self.hub.tell(f"Marked {where}: {words.strip() or 'marked'}.", "good", act="Take back", then=self.hub.undo)


def _names(store: LessonStore, groups: list[int]) -> str:
    """Of a few benches; of many, how many they are."""
    if len(groups) > MOST_NAMED:
        return f"{len(groups)} benches"
    return ", ".join(store.group(group).alias for group in groups)


def extra_answer(text: str) -> str:
    """What a person answers about runs beyond those of the plan. Raises Trouble for anything else."""
    typed = " ".join(text.split()).lower()
    found = [each for each in EXTRA if each.startswith(typed)] if typed else []
    if len(found) != 1:
        raise Trouble("no-such-answer", text=text.strip(), known=", ".join(EXTRA))
    return found[0]
