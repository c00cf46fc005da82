"""The plans to begin with: those that come with the program, and one's own in a folder of files."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec
import platformdirs

from common_bench.lesson.plan_checking import faults_of
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.plan_file import SUFFIX, plan_from_file, plan_to_file, shipped_names, shipped_plan
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import PlanTrouble, Trouble
from common_bench.standins.world import MAIN, worlds
from common_bench.workings.reading import WORDS

FIRST = (MAIN,)  # of the shipped plans, what stands first


@dataclass(frozen=True)
class KeptPlan:
    """A plan of the library. key: the shipped one's, or the file's name; path: None for a shipped one; plan: None where
    the file cannot be used, and trouble says why; has_world: whether stand-in kits can be had for it."""

    key: str
    path: Path | None
    plan: Plan | None
    trouble: Trouble | None = None

    @property
    def name(self) -> str:
        return self.plan.name if self.plan is not None else self.key

    @property
    def is_shipped(self) -> bool:
        return self.path is None

    @property
    def world(self) -> str:
        """The world of stand-in kits that speaks to it; empty where there is none."""
        return self.key if self.is_shipped and self.key in worlds() else ""


def library_folder() -> Path:
    """Where one's own plans lie."""
    return Path(platformdirs.user_data_dir("common-bench")) / "plans"


def shipped() -> list[KeptPlan]:
    """The plans that come with the program."""
    names = sorted(shipped_names(), key=lambda name: (name not in FIRST, name))
    return [KeptPlan(name, None, shipped_plan(name)) for name in names]


def own_plans(folder: Path | None = None) -> list[KeptPlan]:
    """One's own plans, by name; a file that cannot be used is in it with why."""
    place = folder or library_folder()
    found = []
    for path in sorted(place.glob(f"*{SUFFIX}")) if place.is_dir() else ():
        try:
            found.append(KeptPlan(path.stem, path, plan_from_file(path)))
        except Trouble as trouble:
            found.append(KeptPlan(path.stem, path, None, trouble))
    return sorted(found, key=lambda each: each.name.lower())


def all_plans(folder: Path | None = None) -> list[KeptPlan]:
    """One's own and the shipped ones."""
    return [*own_plans(folder), *shipped()]


def find_plan(text: str, folder: Path | None = None) -> KeptPlan:
    """The plan that is meant by a key, a name or the path of a file. Raises PlanTrouble where there is none."""
    path = Path(text)
    if path.suffix == SUFFIX or path.is_file():
        return KeptPlan(path.stem, path, plan_from_file(path))
    for each in all_plans(folder):
        if text.lower() in (each.key.lower(), each.name.lower()):
            if each.plan is None and each.trouble is not None:
                raise each.trouble
            return each
    raise PlanTrouble("no-such-plan", name=text, known=", ".join(each.key for each in all_plans(folder)))


def file_name(name: str) -> str:
    """A plan's name as the name of its file."""
    words = re.findall(r"[^\W_]+", name.lower())
    return ("-".join(words) or "plan")[:60] + SUFFIX


def keep_plan(plan: Plan, folder: Path | None = None, *, over: bool = False) -> Path:
    """Keeps a plan among one's own. Raises PlanTrouble where it cannot be, or where one of that name is there and `over`
    does not say to put it in its place."""
    return plan_to_file(plan, (folder or library_folder()) / file_name(plan.name), over=over)


def empty_plan(name: str = "A new plan") -> Plan:
    """Nothing measured yet."""
    return Plan(name, runs_per_group=3)


def plan_from_columns(formats: Sequence[StreamFormat], name: str = "From what is plugged in") -> Plan:
    """A plan that measures every channel that is heard, each as it comes; the first is found as its mean."""
    sensors: list[SensorPlan] = []
    names: set[str] = set()
    for format in formats:
        for column in format.columns:
            if column.role != "channel" or column.name in [each.channel for each in sensors]:
                continue
            quantity = quantity_name(column.name, names)
            names.add(quantity.lower())
            sensors.append(SensorPlan(column.name, quantity, column.unit, "as-it-comes"))
    plan = Plan(name, sensors=tuple(sensors))
    if sensors:
        found = quantity_name(f"{sensors[0].quantity}_mean", names)
        plan = msgspec.structs.replace(
            plan, workings=(f"{found} = mean of {sensors[0].quantity}",), findings=(found,), show=(sensors[0].quantity,)
        )
    while plan.sensors and any(each.part == "measured" for each in faults_of(plan)):
        at = next(each.at for each in faults_of(plan) if each.part == "measured")
        kept = plan.sensors[:at] + plan.sensors[at + 1 :]
        plan = Plan(name, sensors=kept)
    return plan


def quantity_name(word: str, taken: set[str]) -> str:
    """A word of a kit as the name of a quantity, one that is not taken."""
    letters = re.sub(r"\W+", "_", word).strip("_").lower()
    base = re.sub(r"^[\d_]+", "", letters) or "quantity"
    base = f"{base}_value" if base in WORDS else base
    name, number = base, 2
    while name.lower() in taken:
        name, number = f"{base}_{number}", number + 1
    return name
