"""A curve that is only tried through a run: asked for, shown, kept in the plan or left."""

from __future__ import annotations

from collections.abc import Callable

from common_bench.desk.shell.hub import Hub
from common_bench.lesson.plan_editing import with_line
from common_bench.model.measured import written
from common_bench.model.run import Run
from common_bench.model.trouble import Trouble
from common_bench.record.replay import Replayed
from common_bench.workings.over import Stretches, number_from
from common_bench.workup.curves import TRIED, RunCurve, against_others, beside, curves_of, try_curve
from common_bench.workup.shared_curves import curve_together, shared_in

Span = tuple[float, float]
WHOLE = (-1e9, 1e9)  # s: all of a run
LONG = 50_000  # readings, from which the window does not wait for a curve
MOST_LONG = 2  # runs of which they are held
OFFERS = (
    "a + b * time",
    "a + b * time + c * time^2",
    "A * exp(-time / T) + c",
    "A * time^n",
    "A * sin(w * time + h) + c",
)


class CurveTry:
    """Holds the curve that is tried, of one run, and what others would do beside each curve, worked out once."""

    def __init__(self, hub: Hub, changed: Callable[[], object]) -> None:
        self._hub, self._changed = hub, changed
        self._curve: tuple[int, RunCurve, str] | None = None  # run, curve, what was typed
        self._others: dict[object, str] = {}
        self._of_long: dict[
            object, tuple[object, dict[str, RunCurve] | None]
        ] = {}  # with the results that they go through
        self.waits = False  # for those that were asked for last

    def of(self, run: int) -> RunCurve | None:
        return self._curve[1] if self._curve is not None and self._curve[0] == run else None

    def leave(self) -> bool:
        """Whether there was one."""
        was, self._curve = self._curve is not None, None
        if was:
            self._changed()
        return was

    def ask(self, run: int, name: str, span: Span, text: str = "") -> None:
        """Asks for a formula through a quantity, or all of `Y fitted by F`. text: what was typed before."""

        def tried(text: str) -> None:
            typed, shared = shared_in(text.strip())
            whole = typed if "fitted by" in typed else f"{name} fitted by {typed}"
            working, store = self._hub.lesson.working_up, self._hub.lesson.store
            others = self._others_of(run) if shared else []
            spans = [span, *(working.used_span(each.id) or WHOLE for each in others)]
            readers = [working.reader(run), *(working.reader(each.id) for each in others)]
            names = [f"run {number}" for number in (store.run(run).number, *(each.number for each in others))]

            def fitted() -> RunCurve:
                curves = [_through(read(), each, whole) for read, each in zip(readers, spans, strict=True)]
                return curve_together(curves, names, shared) if shared else curves[0]

            def show(curve: RunCurve) -> None:
                self._curve = run, curve, whole
                self._changed()

            def again(trouble: Trouble) -> None:
                self.ask(run, name, span, text)
                self._hub.messages.question.refuse(trouble)

            self._hub.soon(working.submit(fitted), show, "The curve is being fitted …", again)

        self._hub.messages.ask(
            f"A curve through {name}:",
            "Try it",
            tried,
            hint="as: A * exp(-time / T) + c, T shared",
            offers=OFFERS,
            text=text,
        )

    def _others_of(self, run: int) -> list[Run]:
        """The other runs of the group that count."""
        store = self._hub.lesson.store
        return [each for each in store.kept_runs(store.run(run).group) if each.id != run]

    def keep(self) -> None:
        """The curve that is tried becomes a line of the plan, and all runs follow."""
        if self._curve is None:
            return
        plan, whole = self._hub.lesson.store.plan, self._curve[2]
        taken = {each.lower() for each in self._hub.lesson.store.workings.kinds}
        name = next(each for number in range(1, 99) if (each := f"curve{number if number > 1 else ''}") not in taken)
        if self._hub.try_to(
            lambda: self._hub.lesson.planning.change_plan(with_line(plan, None, f"{name} = {whole}"), "Keep a curve")
        ):
            self._curve = None
            self._hub.tell(
                f"The plan has the line “{name}” now; all runs follow.", "good", act="Take back", then=self._hub.undo
            )
            self._changed()

    def held(self, replayed: Replayed, curve: RunCurve | None) -> list[tuple[str, str]]:
        """Parameters that are held, with their values as written."""
        if curve is None:
            return []
        node = next(
            (line.read.expression for line in replayed.workings.lines if line.name == curve.name and line.read), None
        )
        found = []
        for clause in node.operands[2:] if node is not None and node.form == "fitted" else ():
            if clause.form == "held":
                text = curve.text.partition(f"{clause.word} held at")[2].partition(",")[0].strip()
                told = number_from(text, {}) if text else None
                found.append((clause.word, written(told.value, told.u, told.unit) if told is not None else text))
        return found

    def of_lines(self, replayed: Replayed, span: Span, named: dict[str, Stretches]) -> dict[str, RunCurve]:
        """The curves that its lines put through a run, by line; through a long one a worker does, and there are none until then."""
        workings, results = replayed.workings, replayed.results
        self.waits = False
        if len(replayed.t) < LONG:
            return curves_of(workings, results, span, named)
        key = (id(results), span, str(named))
        if key not in self._of_long:
            while len(self._of_long) >= MOST_LONG:
                self._of_long.pop(next(iter(self._of_long)))
            self._of_long[key] = results, None
            work = self._hub.lesson.working_up.submit(lambda: curves_of(workings, results, span, named))
            self._hub.later(work, lambda curves: self._came(key, curves))
        found = self._of_long[key][1]
        self.waits = found is None
        return found or {}

    def _came(self, key: object, curves: dict[str, RunCurve]) -> None:
        if key in self._of_long:
            self._of_long[key] = self._of_long[key][0], curves
            self._hub.book_changed.emit()

    def others(self, run: int, replayed: Replayed, curve: RunCurve | None, span: Span) -> str:
        """What other shapes would do, in a sentence; worked out by a worker the first time."""
        if curve is None:
            return ""
        key = (run, curve.name if not curve.name.startswith(TRIED) else curve.text, span, len(replayed.t))
        if key not in self._others:
            self._others[key] = ""
            work = self._hub.lesson.working_up.submit(
                lambda: against_others(curve, beside(replayed.workings, replayed.results, span, curve))
            )
            self._hub.later(work, lambda words: self._found(key, words))
        return self._others[key]

    def _found(self, key: object, words: str) -> None:
        self._others[key] = words
        self._hub.book_changed.emit()  # whatever shows it now: the stage may have been made anew meanwhile


def _through(replayed: Replayed, span: Span, whole: str) -> RunCurve:
    return try_curve(replayed.workings, replayed.results, span, whole)
