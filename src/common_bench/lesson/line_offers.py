"""What a line may be made of: every form with the plan's own names, ready lines, and words while one is typed."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from common_bench.lesson.plan_checking import checked
from common_bench.lesson.plan_editing import lines_of
from common_bench.lesson.plan_library import quantity_name
from common_bench.model.plan import Plan
from common_bench.model.trouble import Trouble, WorkingTrouble
from common_bench.model.units import counts_from_own_zero, interval_of, same_kind
from common_bench.workings.compiled import FUNCTIONS
from common_bench.workings.forms import Form, plainly
from common_bench.workings.ready import ready_ones
from common_bench.workings.shapes import Kind
from common_bench.workings.table import FORMS

GROUPS = (
    ("Find events", ("events",)),
    ("Work out", ("over time", "on events")),
    ("Find a number", ("over a span", "fit")),
)
NAMES = {  # of what a form makes, to begin with
    "rate": "speed", "smooth": "calm", "middle": "clean", "total": "all", "change": "gained", "largest so far": "record",
    "smallest so far": "lowest", "delayed": "earlier", "where": "only", "resultant": "size", "peaks": "tops", "dips": "lows",
    "rises": "ups", "falls": "downs", "changes": "edges", "gap between": "pause", "time between": "lag", "time within": "stay",
    "at": "value", "count so far": "counted", "count in the last": "lately", "count": "how_many", "time when it rises": "begins",
    "time when it falls": "ends", "dominant pace": "pitch",
}  # fmt: skip


@dataclass(frozen=True)
class Offer:
    """What can be put into a plan: how it is written, what it does, the lines; form: which, '' for ready lines; missing: what the plan
    has nothing of yet."""

    written: str
    says: str
    lines: tuple[str, ...]
    group: str
    form: str = ""
    late: str = ""
    missing: tuple[str, ...] = ()


def offers(plan: Plan) -> list[Offer]:
    """Every form of the language and all ready lines, made of what the plan has."""
    kinds = checked(plan).kinds
    taken = frozenset(each.name for each in lines_of(plan))
    found = [
        Offer(form.shown, form.says, (line_of(form, kinds, taken),), form.group, form.name, form.late)
        for form in FORMS.values()
    ]
    x = next((name for name, kind in kinds.items() if kind.shape == "series" and not kind.condition), "X")
    used = {each.lower() for each in taken}
    name, size, tau, rest = (quantity_name(each, used) for each in ("fade", "A", "tau", "c"))
    fit = (f"{name} = {x} fitted by {size} * exp(-time / {tau}) + {rest}",)
    says = f"A curve with free parameters through it; then: {tau} of {name}"
    found.append(Offer("X fitted by FORMULA", says, fit, "fit"))
    quantities = {name: kind.unit for name, kind in kinds.items() if kind.shape == "series" and not kind.condition}
    for ready in ready_ones():
        lines, missing = tuple(ready.for_plan(quantities, taken)), tuple(ready.missing(quantities))
        found.append(Offer(ready.title, ready.source, lines, "ready", missing=missing))
    return found


def line_of(form: Form, kinds: Mapping[str, Kind], taken: frozenset[str] = frozenset()) -> str:
    """A line with a form of the table, of the quantities that a plan has; capitals where it has none of the kind."""
    series = [name for name, kind in kinds.items() if kind.shape == "series" and not kind.condition]
    at_events = [name for name, kind in kinds.items() if kind.shape == "at events"]
    events = [name for name, kind in kinds.items() if kind.shape == "events"]
    about = {"values": [*at_events, *series]}.get(form.takes[form.slots[0]], series)
    x = about[0] if about else "X"
    unit = kinds[x].unit if x in kinds else ""
    if form.name == "time within":
        events = [name for name in events if (made := kinds[name].made) is not None and made.form in ("rises", "falls")]
    given: dict[str, str] = {}
    for slot in form.slots:
        takes = form.takes[slot]
        alike = [name for name in about if name not in given.values() and same_kind(kinds[name].unit, unit)]
        given[slot] = {
            "events": next((name for name in events if name not in given.values()), "EVENTS"),
            "time": "0.4 s" if slot != "time" or "last" not in form.name else "10 s",
            "level": f"1 {unit}".strip(),
            "depth": f"0.1 {interval_of(unit)}".strip(),
            "number of readings": "5",
            "condition": f"{x} > 1 {unit}".strip(),
        }.get(takes, x if slot == form.slots[0] else alike[0] if alike else x)
    if form.name in ("total", "area", "resultant") and counts_from_own_zero(unit):
        given = {slot: f"(change in {name})" for slot, name in given.items()}
    if form.name == "slope":
        given["x"] = next((name for name in series if name != given["y"]), "time") if about == series else "time"
    name = quantity_name(NAMES.get(form.name, f"{x}_{form.name}".replace(" ", "_")), {each.lower() for each in taken})
    return f"{name} = {plainly(form.written, given)}"


LIKELY = (
    ("N", ("force", "load", "pull", "tension")), ("°C", ("temp",)), ("lx", ("light", "lux", "bright")), ("V", ("volt",)),
    ("mm", ("dist", "range", "place")), ("hPa", ("press",)),
)  # fmt: skip


def likely_unit(column: str) -> str:
    """`, in N` for a column whose name says what it is of; else nothing: no unit is better than a wrong one."""
    return next((f", in {unit}" for unit, begins in LIKELY if column.lower().startswith(begins)), "")


def ready_lines(plan: Plan, columns: Sequence[tuple[str, str]]) -> list[tuple[str, list[str]]]:
    """(heading, lines) to begin with, made of what the plan has; columns: (name, unit) that kits send and that are not
    measured yet."""
    taken = {each.name.lower() for each in lines_of(plan)}
    measured, measure = {each.channel for each in plan.sensors}, []
    for column, unit in columns or [("channel", "")]:
        if column not in measured:
            channel = column if re.fullmatch(r"\S+", column) else f'"{column}"'
            of = f", in {unit}" if unit else ""
            name = quantity_name(column, set(taken))
            measure += [
                f"{name} = from {channel} as it comes{of}",
                f"{name} = from {channel} through a straight line{of or likely_unit(column)}",
            ]
    all_ = offers(plan)
    made = [(heading, [each.lines[0] for each in all_ if each.group in groups]) for heading, groups in GROUPS]
    kinds = checked(plan).kinds
    usable = {name: kind.shape for name, kind in kinds.items()}
    if "series" in usable.values():
        x = next(name for name, shape in usable.items() if shape == "series")
        made[1][1].insert(0, f"{quantity_name('twice', set(taken))} = 2 * {x}")
    return [("Measure", measure), *made]


WORDS_OFFERED = (
    *(f"{name}(" for name in FUNCTIONS), "apart", "through ", "above ",
    "below ", "by at least ", "rises through ", "falls through ", "readings", "so far", "in the last ", "delayed by ", "where ",
    "against ", "at ", "over ", "if ", "then ", "else ", "and ", "or ", "not ", "as ", "time",
    "calibrated ", "from ", "as it comes", "through a straight line", "through a proportion", "by reading * ",
)  # fmt: skip
UNITS = (
    "V", "mV", "A", "mA", "N", "s", "ms", "m", "cm", "mm", "g", "kg", "°C", "K", "Pa", "kPa", "lx", "Hz", "m/s", "m/s²", "ohm", "kΩ",
    "µF", "%", "bpm", "J", "kJ", "W", "hPa", "counts",
)  # fmt: skip


def word_before(text: str) -> str:
    """The word at the end of `text`, as it is being typed; empty behind a space or a sign."""
    found = re.search(r"[^\s(*/+^,=-]*$", text)
    return found[0] if found else ""


def completions(plan: Plan, text: str, channels: Sequence[str] = ()) -> list[str]:
    """What may stand in the place of the last word of `text`: names of the plan, forms, channels, units after a number."""
    word = word_before(text)
    before = text[: len(text) - len(word)]
    names = [each.name for each in lines_of(plan) if each.kind != "off" and each.name]
    if re.search(r"\d\s$", before):
        offered: Sequence[str] = [*UNITS, "apart", "readings"]
    elif re.search(r"\bas\s$", before):
        offered = UNITS
    elif re.search(r"(from|calibrated)\s$", before):
        offered = list(channels)
    elif "=" not in text or not word:
        return []
    else:
        openings = dict.fromkeys(f"{form.opening} " for form in FORMS.values() if form.opening)
        offered = [*names, *openings, *WORDS_OFFERED]
    return [each for each in dict.fromkeys(offered) if each.lower().startswith(word.lower()) and each != word]


def correction(line: str, trouble: Trouble) -> str | None:
    """The line with what was likely meant in the place of what is wrong; None where nothing is likely."""
    near = trouble.fields.get("near")
    if not isinstance(trouble, WorkingTrouble) or not isinstance(near, str) or not near:
        return None
    wrong = line[trouble.start : trouble.end]
    word = str(trouble.fields.get("name") or trouble.fields.get("text") or wrong)
    if word not in wrong:
        return None
    return line[: trouble.start] + wrong.replace(word, near, 1) + line[trouble.end :]
