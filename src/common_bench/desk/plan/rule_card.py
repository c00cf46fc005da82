"""What a run is: how it begins, what is kept from before, how it ends, how many each group records."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from common_bench.desk.look.labels import label, set_tip
from common_bench.desk.look.pieces import Card, Field, hbox, offer, say, set_property
from common_bench.desk.look.sheet import px
from common_bench.desk.plan.cards import Change, keys_back
from common_bench.lesson.plan_checking import PlanFault
from common_bench.lesson.rule_text import RuleText, begin_offers, end_offers, rule_text, used_offers, with_rule
from common_bench.model.plan import Plan
from common_bench.model.trouble import Trouble


class RuleCard(Card):
    """One sentence, each part of which can be typed or chosen; what is wrong with it stands under it."""

    def __init__(
        self, plan: Callable[[], Plan], change: Change, tell: Callable[[str], object], mended: Callable[[str], object]
    ) -> None:
        """tell: says why something was not kept; mended: told of what was said when that is over."""
        super().__init__("A run")
        self._plan, self._change, self._tell, self._mended = plan, change, tell, mended
        self._told = ""
        self.begins, self.before, self.ends, self.runs, self.used = Field(), Field(), Field(), Field(), Field()
        self._offered: Plan | None = None  # for which beginnings and ends are offered
        self._fields = {
            "begins": self.begins,
            "before": self.before,
            "ends": self.ends,
            "runs": self.runs,
            "used": self.used,
        }
        for field in self._fields.values():
            field.editingFinished.connect(self._finished)
            field.returnPressed.connect(partial(keys_back, field))
        for field in (self.before, self.runs):
            field.setFixedWidth(px(44))
        set_tip(self.begins, "as: at once; after 5 s; when force rises through 400 N; when the kit sends GO; at 14:05")
        set_tip(
            self.ends,
            "as: after 20 s; after 3 jump; after 500 readings; when temp is steady; by hand; or several with “or”",
        )
        self.body.addLayout(hbox(label("begins"), self.begins, spacing=5))
        self._kept = label("s from before;")
        self.body.addLayout(hbox(label("with"), self.before, self._kept, None, spacing=5))
        self.body.addLayout(hbox(label("ends"), self.ends, spacing=5))
        set_tip(
            self.used,
            "the part of a run that is used, as: all; from let_go to 10 s after; from 2 s to the end. More of them by name: all; early: from 0 s to 5 s",
        )
        self.body.addLayout(hbox(label("used:"), self.used, spacing=5))
        self.body.addLayout(hbox(self.runs, label("runs of each group"), None, spacing=5))
        self.trouble = label("", "red", wrap=True)
        self.add(self.trouble)

    def show_plan(self, plan: Plan, faults: Sequence[PlanFault]) -> None:
        kept = rule_text(plan)
        for name, field in self._fields.items():
            if not (field.hasFocus() and field.isModified()):
                field.setText(getattr(kept, name))
                field.home(False)
        if plan is not self._offered:
            self._offered = plan
            offer(self.begins, begin_offers(plan))
            offer(self.ends, end_offers(plan))
            offer(self.used, used_offers(plan))
        wrong = [each for each in faults if each.part == "rule"]
        say(self.trouble, wrong[0].sentence if wrong else "")
        self.trouble.setVisible(bool(wrong))
        for name in ("begins", "ends", "used"):
            set_property(self._fields[name], "wrong", any(each.field == name for each in wrong))

    def _finished(self) -> None:
        plan = self._plan()
        typed = RuleText(*(self._fields[name].text() for name in ("begins", "before", "ends", "runs", "used")))
        if typed == rule_text(plan):
            return
        try:
            changed = with_rule(plan, typed)
        except Trouble as trouble:
            self._told = f"{trouble.sentence} Nothing was changed."
            self._tell(self._told)
            for name, field in self._fields.items():
                field.setModified(False)
                field.setText(getattr(rule_text(plan), name))
            return
        for field in self._fields.values():
            field.setModified(False)
        self._mended(self._told)
        self._change(changed, "Change the rule")
