"""Beside a run in Work up: its finding with what its uncertainty is made of, its curve, its conditions, notes and moments."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from functools import partial

from common_bench.desk.look.labels import label, set_tip
from common_bench.desk.look.pieces import Card, Cell, Field, Table, button, emptied, hbox, say, set_property, vbox
from common_bench.desk.plan.cards import keys_back
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.worked_runs import TriedSpan
from common_bench.model.measured import how_long, u_words, written
from common_bench.model.run import Finding, Moment, Run
from common_bench.model.units import is_unit
from common_bench.record.replay import Replayed
from common_bench.workup.comparing import difference_words
from common_bench.workup.curves import RunCurve

NO_BREAK = "\N{NO-BREAK SPACE}"
NUMBER = re.compile(r"\d ([^\s,()]+)")  # and what stands behind it


class FindingCard(Card):
    """Every finding of the run, and how the first came about. One of a run that is set aside does not look valid."""

    def __init__(self) -> None:
        super().__init__("Finding")
        self.finding = label("", "finding", wrap=True)
        self.words = label("", "soft", wrap=True)
        self.made_of = Table(["± is made of", ""], left=(0,))
        self.aside_words = label("", "amber", wrap=True)
        self.difference = label("", "soft", wrap=True)
        self.add(self.aside_words, self.finding, self.words, self.made_of, self.difference)

    def show_findings(self, run: Run, findings: Sequence[Finding]) -> None:
        say(self.aside_words, f"Set aside: {run.aside}. It counts nowhere until it is taken back." if run.aside else "")
        self.aside_words.setVisible(bool(run.aside))
        set_property(self, "tone", "amber" if run.aside else "")
        set_property(self.finding, "role", "soft" if run.aside else "finding")
        self.difference.hide()
        self.made_of.setVisible(bool(findings) and bool(findings[0].made_of))
        if not findings:
            why = run.trouble.trouble.sentence if run.trouble is not None else "The plan asks for none."
            say(self.finding, "no finding")
            say(self.words, why)
            return
        first = findings[0]
        say(self.finding, _lines(findings))
        say(self.words, first.how)
        self.made_of.fill([[share.name, f"{u_words(share.u)} {first.measured.unit}"] for share in first.made_of])
        self.made_of.fit(6)

    def show_tried(self, tried: TriedSpan) -> None:
        """What the run would give over the span that is being dragged."""
        low, high = tried.span
        say(self.finding, _lines(tried.findings) or "no finding")
        why = tried.why_not.sentence if tried.why_not is not None else "as it lies; let go to keep it"
        say(self.words, f"{low:.2f} s to {high:.2f} s: {why}")
        for each in (self.made_of, self.difference):
            each.hide()

    def show_difference(self, own: Sequence[Finding], others: Sequence[Finding], who: str) -> None:
        """How the first finding differs from that of another run, and whether they agree."""
        other = next((each for each in others if own and each.name == own[0].name), None)
        if other is None:
            return
        say(self.difference, difference_words(own[0], other, who))
        self.difference.show()


def _lines(findings: Sequence[Finding]) -> str:
    """Each with its value, which is not torn apart where it needs a line of its own."""
    told = [(f.name, written(f.measured.value, f.measured.u, f.measured.unit)) for f in findings]
    return "\n".join(f"{name} = {value.replace(' ', NO_BREAK)}" for name, value in told)


def workings_of(run: Run) -> str:
    """The lines of a run, in which no number is torn from its unit."""
    lines = "\n".join(run.setting.workings if run.setting is not None else ())
    return NUMBER.sub(lambda found: found[0].replace(" ", NO_BREAK) if is_unit(found[1]) else found[0], lines)


class ConditionsCard(Card):
    """What was stated for the run, to be corrected afterwards."""

    def __init__(self, hub: Hub) -> None:
        super().__init__("Conditions of this run")
        self._hub = hub
        self._run: Run | None = None
        self.fields: dict[str, Field] = {}
        self._rows = vbox(spacing=5)
        self.body.addLayout(self._rows)

    def show_run(self, run: Run) -> None:
        self._run = run
        conditions = self._hub.lesson.store.plan.stated
        if list(self.fields) != [each.name for each in conditions]:
            emptied(self._rows)
            self.fields = {}
            for condition in conditions:
                field = Field()
                set_tip(field, condition.about)
                field.editingFinished.connect(lambda n=condition.name, f=field: self._set(n, f))
                self.fields[condition.name] = field
                self._rows.addLayout(hbox(label(condition.name), field))
        kept = self._hub.lesson.store.run_stated(run.id)
        for name, field in self.fields.items():
            if not field.hasFocus():
                field.setText(str(kept[name]) if name in kept else "")
                field.setPlaceholderText("not known yet")
                set_property(field, "wrong", False)
        self.setVisible(bool(conditions))

    def _set(self, name: str, field: Field) -> None:
        run, lesson = self._run, self._hub.lesson
        if run is None:
            return
        kept = lesson.store.run_stated(run.id).get(name)
        text = field.text().strip()
        if text in ("", str(kept) if kept else ""):
            return
        if self._hub.try_to(lambda: lesson.working_up.set_run_condition(run.id, name, text)):
            value = lesson.store.run_stated(run.id)[name]
            self._hub.tell(f"{name} of run {run.number} is {value}.", "good", act="Take back", then=self._hub.undo)
            field.setText(str(value))
            set_property(field, "wrong", False)
        else:
            set_property(field, "wrong", True)


class FitCard(Card):
    """A fit over the span: its parameters, how well it fits, what other shapes would do. One that is only tried says so, and can
    be kept in the plan."""

    def __init__(self, try_one: Callable[[], object], keep: Callable[[], object]) -> None:
        """try_one: asks for another curve; keep: has the one that is tried kept in the plan."""
        super().__init__("Curve")
        self.formula = label("", "mono", wrap=True)
        self.parameters = Table(["name", "value", ""], left=(0,), stretch=1)
        self.words = label("", wrap=True)
        self.others = label("", "soft", wrap=True)
        self.keep = button("Keep it in the plan", keep, role="link")
        self.ask = button("Try a curve… (C)", try_one, role="link")
        self.add(self.formula, self.parameters, self.words, self.others)
        self.body.addLayout(hbox(self.ask, self.keep, None))

    def show_curve(
        self, curve: RunCurve | None, held: Sequence[tuple[str, str]], others: str, *, tried: bool, waits: bool = False
    ) -> None:
        """held: parameters that are not free, with their values; others: what other shapes would do; waits: one is being worked out."""
        for each in (self.formula, self.parameters, self.words, self.others):
            each.setVisible(curve is not None)
        self.keep.setVisible(tried and curve is not None and not curve.shared)
        if curve is None:
            say(self.heading, "CURVE")
            set_property(self, "tone", "")
            say(self.others, "being put through the run …")
            self.others.setVisible(waits)
            return
        say(self.heading, "CURVE, ONLY TRIED" if tried else f"CURVE “{curve.name}”")
        set_property(self, "tone", "amber" if tried else "")
        say(self.formula, curve.text.partition("=")[2].strip() if "=" in curve.text else curve.text)
        rows: list[list[Cell]] = [
            [name, value, ("same in all" if name in curve.shared else "free", "soft")]
            for name, value in curve.parameters
        ]
        rows += [[name, value, ("held", "soft")] for name, value in held]
        self.parameters.fill(rows)
        self.parameters.fit(7)
        say(self.words, "\n".join(curve.words))
        say(self.others, others)
        self.others.setVisible(bool(others))


class NotesCard(Card):
    """What was set aside, marked and noted in a run, and how it ended."""

    def __init__(
        self, change: Callable[[int, str], object], refilled: Callable[[], object], take_in: Callable[[int], object],
        note: Callable[[str], object],
    ) -> None:  # fmt: skip
        """change: told of a moment by its place and other words; take_in: of a stretch that shall count again, by its place."""
        super().__init__("Moments", name=True)
        self._take_in = take_in
        self.moments = label("", wrap=True)
        self.stretches = vbox(spacing=1)
        self.marked = Table(
            ["at", "moment: type other words, or none to take it off"], left=(0, 1), stretch=1, edit=(1,)
        )
        self.marked.edited.connect(lambda row, _, text: change(row, text))
        self.marked.edited.connect(lambda *_: self.marked.refill())
        self.marked.refilled.connect(refilled)
        self.note = Field()
        self.note.setPlaceholderText("a note on this run")
        self.note.editingFinished.connect(lambda: note(self.note.text().strip()))
        self.note.returnPressed.connect(lambda: keys_back(self.note))
        self.add(self.moments)
        self.body.addLayout(self.stretches)
        self.add(self.marked, self.note)
        self._shown: object = None

    def show_run(self, run: Run, replayed: Replayed, marked: Sequence[Moment]) -> None:
        rows: list[list[Cell]] = [[how_long(each.t, replayed.seconds), each.text] for each in marked]
        self.marked.fill(rows)
        self.marked.fit(3)
        self.marked.setVisible(bool(rows))
        left_out = run.setting.left_out if run.setting is not None else ()
        out = [each for each in left_out if each.kind == "stretch"]
        own = [low for low, high in replayed.gaps if any(low <= each.t_to and each.t_from <= high for each in out)]
        gaps = [
            f"{how_long(low, replayed.seconds)} gap of {how_long(high - low)}"
            for low, high in replayed.gaps
            if low not in own
        ]
        say(self.moments, " · ".join([*gaps, f"{how_long(replayed.seconds)} {run.ended_by}", *run.lacks]))
        if left_out == self._shown:
            return
        self._shown = left_out
        emptied(self.stretches)
        for at, each in enumerate(left_out):
            words = label(f"Set aside: {each.words}: {each.reason}", "amber")
            row = hbox(words, button("Take back", partial(self._take_in, at), role="link"))
            row.setStretch(0, 1)
            self.stretches.addLayout(row)
