"""Beside a run in Work up: its finding with what its uncertainty is made of, and its conditions."""

from __future__ import annotations

from collections.abc import Sequence

from common_bench.desk.look.labels import label, set_tip
from common_bench.desk.look.pieces import Card, Field, Table, emptied, hbox, say, set_property, vbox
from common_bench.desk.shell.hub import Hub
from common_bench.model.measured import u_words, written
from common_bench.model.run import Finding, Run


class FindingCard(Card):
    """Every finding of the run, and how the first came about. One of a run that is set aside does not look valid."""

    def __init__(self) -> None:
        super().__init__("Finding")
        self.finding = label("", "finding", wrap=True)
        self.words = label("", "soft", wrap=True)
        self.made_of = Table(["its uncertainty is made of", ""], left=(0,))
        self.aside_words = label("", "amber", wrap=True)
        self.add(self.aside_words, self.finding, self.words, self.made_of)

    def show_findings(self, run: Run, findings: Sequence[Finding]) -> None:
        say(self.aside_words, f"Set aside: {run.aside}. It counts nowhere until it is taken back." if run.aside else "")
        self.aside_words.setVisible(bool(run.aside))
        set_property(self, "tone", "amber" if run.aside else "")
        set_property(self.finding, "role", "soft" if run.aside else "finding")
        self.made_of.setVisible(bool(findings) and bool(findings[0].made_of))
        if not findings:
            why = run.trouble.trouble.sentence if run.trouble is not None else "The plan asks for none."
            say(self.finding, "no finding")
            say(self.words, why)
            return
        first = findings[0]
        lines = [f"{f.name} = {written(f.measured.value, f.measured.u, f.measured.unit)}" for f in findings]
        say(self.finding, "\n".join(lines))
        say(self.words, first.how)
        self.made_of.fill([[share.name, f"{u_words(share.u)} {first.measured.unit}"] for share in first.made_of])
        self.made_of.fit(6)


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
