"""How good a calibration is: of one that is kept, and of the curve through the points that a bench has now. What a person should
look at, in words."""

from __future__ import annotations

from datetime import datetime
from typing import Literal, NamedTuple

from common_bench.calibrate.applied import Applied
from common_bench.calibrate.judging import check_state
from common_bench.fits.curve_fit import UNLIKELY, chance
from common_bench.lesson.sensors import SensorStates
from common_bench.lesson.store import LessonStore
from common_bench.model.plan import SensorPlan


class Quality(NamedTuple):
    """How good a kept calibration is: none, bad-check, unfit, disagrees, old, doubtful-check, good; in words, with their tone;
    cause: what is wrong, as a sentence without its end, where it should not be used as it is."""

    code: str
    words: str
    tone: Literal["plain", "good", "amber", "red"]
    cause: str = ""

    @property
    def is_good(self) -> bool:
        return self.code == "good"


def quality(store: LessonStore, sensors: SensorStates, kit: int, sensor: SensorPlan) -> Quality:
    """The newest calibration that is kept for a kit's channel, judged."""
    kept = store.calibration(kit, sensor.channel)
    if kept is None:
        return Quality("none", "", "amber")
    if not kept.made_at:
        return Quality("good", "as it comes" if sensor.curve == "as-it-comes" else "by the data sheet", "good")
    ready = sensors.made_ready(kept)
    group = store.group_at(kit)
    alias = store.group(group).alias if group is not None else ""
    label = sensors.wrong_points(sensor.channel, kept=True).get(alias, "")
    if wrong := _wrong(ready, label):
        return wrong
    if sensor.old_after and days_old(kept.made_at) > sensor.old_after:
        return Quality("old", f"old · {age_words(kept.made_at)}", "amber")
    if "doubtful" in [check_state(ready, point) for point in kept.points if point.check]:
        return Quality("doubtful-check", "check doubtful", "amber")
    return Quality("good", f"good · {age_words(kept.made_at)}", "good")


def quality_of_new(sensors: SensorStates, alias: str, ready: Applied) -> Quality | None:
    """What is wrong with the curve through the points that a bench has now; None where it may be kept."""
    return _wrong(ready, sensors.wrong_points(ready.calibration.channel, kept=False).get(alias, ""))


def _wrong(ready: Applied, label: str) -> Quality | None:
    """label: of a point at which the bench disagrees with the class, empty where it does not."""
    kept = ready.calibration
    if label:
        cause = f"“{label}” disagrees with the class: was something else held there?"
        return Quality("disagrees", f"“{label}” wrong?", "red", cause)
    bad = next((point.label for point in kept.points if point.check and check_state(ready, point) == "bad"), "")
    if bad:
        return Quality("bad-check", "check bad", "red", f"the check point “{bad}” lies off the curve")
    if chance(kept.chi_square, kept.dof) < UNLIKELY:
        return Quality("unfit", "does not fit", "red", "the points do not lie on the curve")
    return None


def days_old(made_at: str) -> int:
    """Whole days since an ISO 8601 time."""
    if not made_at:
        return 0  # it holds as the plan has it
    return (datetime.now().astimezone().date() - datetime.fromisoformat(made_at).date()).days


def age_words(made_at: str) -> str:
    """`today`, `1 day`, `6 days`."""
    days = days_old(made_at)
    return "today" if days <= 0 else "1 day" if days == 1 else f"{days} days"
