"""Stage 3, Calibrate: reference points, the curve through them, its residuals, is it steady, every bench at once."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PyQt6.QtWidgets import QWidget

from common_bench.calibrate.curves import KINDS, curve_name
from common_bench.desk.calibrate.aim import Aim
from common_bench.desk.calibrate.apply_panel import ApplyPanel
from common_bench.desk.calibrate.cards import (
    ClassCard,
    CurveCard,
    PointsCard,
    ResidualCard,
    SentenceCard,
    SteadyCard,
)
from common_bench.desk.calibrate.questions import NO_SENSOR, CalibrateQuestions
from common_bench.desk.look.labels import set_tip
from common_bench.desk.look.pieces import button, choice, hbox, say, scrolled, vbox
from common_bench.desk.look.sheet import px
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import Keys, StageView
from common_bench.lesson.calibration_words import Shown, curve_shown
from common_bench.lesson.worked_runs import Reworked
from common_bench.model.calibration import PlannedPoint
from common_bench.model.plan import SensorPlan

RIGHT = 500  # width of the right column
MOST_RIGHT = 504  # in the projector theme too, or the graphs have no room
LONGEST_LABEL = 16  # characters of a point's name on the button


class CalibrateStage(StageView):
    """The cards of the stage put together, and what its keys and buttons do."""

    def __init__(self, hub: Hub, offer: Callable[[str], None]) -> None:
        """offer: told of the point that comes next, for hands that hold it."""
        super().__init__(hub)
        self._offer = offer
        self._shown = Shown(None)
        self.aim = Aim(hub)
        self.questions = CalibrateQuestions(hub, self.aim)
        self._build_head()
        self._build_body()
        self.aim.moved.connect(self._say_next)
        self.points_card.table.refilled.connect(self.refresh)

    # building

    def _build_head(self) -> None:
        self.curve_kind = choice([curve_name(key) for key in KINDS], tip="Which curve goes through the points (C)")
        self.curve_kind.activated.connect(lambda at: self.questions.curve(KINDS[at]))
        self.take = button("", self.take_point)
        self.keep = button("Keep calibration (K)", self.keep_calibration, role="main")
        self.head.insertWidget(1, self.curve_kind)
        self.head.addWidget(self.take)
        self.head.addWidget(self.keep)
        self.apply_panel = ApplyPanel(self._apply_to_runs, self._leave_earlier)
        self.column.addWidget(self.apply_panel, 1)

    def _build_body(self) -> None:
        hub, aim = self.hub, self.aim
        self.curve_card, self.residual_card, self.steady_card = (
            CurveCard(hub, aim),
            ResidualCard(hub, aim),
            SteadyCard(hub),
        )
        left = vbox(self.curve_card, self.residual_card, self.steady_card, spacing=11)
        for at, share in enumerate((22, 10, 11)):
            left.setStretch(at, share)
        self.points_card = PointsCard(hub, aim, self.questions.new_point, self.questions.set_aside)
        self.class_card, self.sentence_card = ClassCard(hub, aim), SentenceCard(hub, aim, self.ask_apply)
        for card in (self.points_card, self.class_card, self.sentence_card):  # all three have to fit
            card.body.setContentsMargins(px(13), px(7), px(13), px(6))
        right = scrolled(vbox(self.points_card, self.class_card, self.sentence_card, None, spacing=7))
        right.setFixedWidth(min(px(RIGHT), MOST_RIGHT))
        body = hbox(left, right, spacing=11)
        body.setStretch(0, 1)
        self.body = QWidget()
        self.body.setLayout(body)
        self.column.addWidget(self.body, 1)

    def keys(self) -> Keys:
        found: Keys = {
            "Space": ("take the point on every steady bench", self.take_point),
            "W": ("take it on this bench before it is steady, with a reason", self.questions.early),
            "K": ("keep every calibration", self.keep_calibration),
            "Right": ("next reference point", lambda: self._step(1)),
            "Left": ("previous reference point", lambda: self._step(-1)),
            "A": ("take points by themselves when steady", self.points_card.automatic.toggle),
            "X": ("set this point aside", self.questions.set_aside),
            "N": ("add a point to the plan", self.questions.new_point),
            "E": ("change this point's reference", self.questions.reference),
            "V": ("make it the check point, or not", self.questions.swap_check),
            "Del": ("take this point off the plan", self.questions.remove_point),
            "C": ("choose the curve", self.curve_kind.showPopup),
            "B": ("take the reference from a trusted bench", self.points_card.against.showPopup),
            "P": ("steps before the curve, as a divider", self.questions.steps),
            "L": ("limits of steadiness", self.questions.limits),
            "G": ("residuals or history", self._swap_history),
            "U": ("apply to earlier runs", self.ask_apply),
            "Y": ("copy the calibration for a report", self.sentence_card.copy),
        }
        if len(self.store.plan.sensors) > 1:
            found["S"] = ("next sensor", self._next_sensor)
        if self.apply_panel.isVisible():
            found["Return"] = ("apply to earlier runs", self._apply_to_runs)
        return found

    def escape(self) -> bool:
        if not self.apply_panel.isVisible():
            return False
        self._leave_earlier()
        return True

    def chosen(self) -> object:
        return self.aim, self.residual_card.history

    def choose_again(self, what: object) -> None:
        assert isinstance(what, tuple)
        self.aim.take_over(what[0])
        self.residual_card.history = what[1]

    # what it is about

    @property
    def sensor(self) -> SensorPlan | None:
        return self.aim.sensor

    @property
    def planned(self) -> PlannedPoint | None:
        return self.aim.planned

    def _step(self, by: int) -> None:
        self.aim.go_to(self.aim.at + by)
        self.refresh()

    def _next_sensor(self) -> None:
        self.aim.next_sensor()
        self.refresh()

    def _say_next(self) -> None:
        planned, against = self.planned, self.aim.taking.against
        bench = f" against {self.store.group(against).alias}" if against else ""
        short = planned.label if planned and len(planned.label) <= LONGEST_LABEL else "this point"
        self.take.setText(f"Take “{short}”{bench} (space)" if planned else "Add a point (N)")
        named = f"“{planned.label}”" if planned else "a point"
        set_tip(self.take, f"Takes {named} on every bench that is steady; the rest follow as they become so")
        if planned:
            self._offer(planned.label)

    # what is done

    def take_point(self) -> None:
        if self.sensor is not None and self.planned is None:
            self.questions.new_point()
            return
        taking, taken = self.aim.taking, list[int]()
        label = taking.label
        again = bool(taking.planned) and not taking.missing()
        if not self.hub.try_to(lambda: taken.extend(taking.take())):
            return
        waits = " · ".join(f"{self.store.group(g).alias} {why.what}" for g, why in taking.waiting.items())
        if taken:
            more = f" The rest follow by themselves: {waits}." if waits else ""
            how = "taken again" if again else "taken"
            self.hub.tell(
                f"{label} {how} on {self._names(taken)}.{more}", "amber" if waits else "good", act="Take back",
                then=self.hub.undo,
            )  # fmt: skip
            if not again:
                self.aim.go_on()
            self.refresh()
        else:
            self.hub.tell(
                f"{label} is not taken yet: {waits}. Each bench follows by itself once it is steady.", "amber",
                ended=lambda: not taking.waiting,
            )  # fmt: skip
            self.aim.go_on()  # where all that lack it are not heard, the next is meant, and named, from now on

    def _names(self, groups: list[int]) -> str:
        names = ", ".join(self.store.group(group).alias for group in groups)
        return f"{len(groups)} bench{'es' if len(groups) != 1 else ''}: {names}"

    def keep_calibration(self) -> None:
        sensor = self.sensor
        if sensor is None:
            self.hub.tell(NO_SENSOR, "amber")
            return
        store = self.store
        by_hand = sensor.curve == "formula"
        groups = [
            group.id
            for group in store.groups
            if (kit := store.kit_of(group.id)) and (by_hand or store.points(kit, sensor.channel))
        ]
        doubtful = self.lesson.calibrating.doubtful(groups, sensor.channel)
        sound = [group for group in groups if group not in doubtful]
        if sound or not doubtful:
            self._keep(sound or [self.hub.group], sensor.channel, doubtful)
            return
        self._ask_to_keep("Nothing is kept yet.", doubtful, sensor.channel)

    def _keep(self, asked: list[int], channel: str, doubtful: Mapping[int, str]) -> None:
        """doubtful: benches that somebody should look at first, and why."""
        kept: list[int] = []
        if not self.hub.try_to(lambda: kept.extend(self.lesson.calibrating.keep_calibrations(asked, channel))):
            return
        names = ", ".join(self.store.group(group).alias for group in kept)
        left = [self.store.group(g).alias for g in asked if g not in kept]
        more = f" Not for {', '.join(left)}: no curve yet." if left else ""
        told = f"Kept for {names}. It counts from now on; earlier runs keep theirs.{more}"
        if doubtful:
            self._ask_to_keep(f"Kept for {names}.{more}", doubtful, channel)
        else:
            self.hub.tell(told, "amber" if left else "good", act="Take back", then=self.hub.undo)

    def _ask_to_keep(self, done: str, doubtful: Mapping[int, str], channel: str) -> None:
        """Calibrations that look wrong are kept only when a person says so."""
        why = " ".join(
            f"{self.store.group(group).alias}: {cause}{'' if cause.endswith('?') else '.'}"
            for group, cause in doubtful.items()
        )
        self.hub.tell(
            f"{done} Not kept: {why} Take the point again.", "red", act="Keep it all the same" if len(doubtful) == 1 else "Keep them all the same",
            then=lambda: self._keep(list(doubtful), channel, {}),
        )  # fmt: skip

    def _swap_history(self) -> None:
        self.residual_card.history = not self.residual_card.history
        self.refresh()

    def ask_apply(self) -> None:
        """What earlier runs would become is worked out by a worker, then shown before anything is changed."""
        sensor = self.sensor
        if sensor is None or not self.lesson.applying.runs_before(sensor.channel):
            self.hub.tell("Every earlier run has the calibration that is kept now.", "good")
            return
        self.hub.later(self.lesson.applying.preview_later(sensor.channel), self._show_preview)

    def _show_preview(self, found: list[Reworked]) -> None:
        self.body.hide()
        self.apply_panel.preview(self.lesson, found)

    def _apply_to_runs(self) -> None:
        if self.hub.try_to(lambda: self.lesson.applying.apply(self.apply_panel.reworked)):
            self.hub.tell(
                "Applied; findings and the pool follow and say so.", "good", act="Take back", then=self.hub.undo
            )
        self._leave_earlier()

    def _leave_earlier(self) -> None:
        self.apply_panel.hide()
        self.body.show()
        self.hub.keys_back()

    # what is seen

    def refresh(self) -> None:
        sensor = self.sensor
        say(self.title, f"{sensor.channel} → {sensor.quantity}" if sensor else "Calibrate")
        self.curve_kind.setVisible(sensor is not None)
        say(self.subtitle, "" if sensor else "this plan calibrates no sensor")
        if sensor:
            self.curve_kind.setCurrentText(curve_name(sensor.curve))
        self.points_card.show_references()
        self.aim.follow()
        if sensor is None or not self.hub.group:
            say(self.curve_card.empty, NO_SENSOR)
            self.curve_card.graph.hide()
            return
        self._shown = curve_shown(self.lesson, self.hub.group, sensor)
        self.curve_card.show_curve(sensor, self._shown)
        self.residual_card.show_residuals(sensor, self._shown, self.curve_card.graph)
        self.points_card.show_points(sensor, self._shown)
        self.sentence_card.show_sentence(sensor, self._shown)
        self.tick()

    def tick(self) -> None:
        sensor = self.sensor
        if sensor is None or not self.hub.group:
            return
        label = self.aim.taking.label  # what is taken is seen at once, and the others may follow and go on within that
        followed = self.aim.taking.follow()
        if followed:
            self.hub.tell(f"{label} taken on {self._names(followed)}.", "good")
            self.aim.go_on()
            self.refresh()
        for group, missed in self.aim.taking.catch_up().items():
            alias = self.store.group(group).alias
            self.hub.tell(
                f"{missed} taken on {alias} too, which was not heard before, as the others still rest there.", "amber",
                act="Take back", then=self.hub.undo,
            )  # fmt: skip
            self.refresh()
        self.class_card.tick(sensor)
        self.steady_card.tick(sensor, self._shown)

    def draw(self) -> None:
        self.curve_card.graph.show_now(self.steady_card.draw(self.sensor))
