"""Conditions as they are typed, one a line, and read again."""

from __future__ import annotations

import re

from common_bench.model.measured import number
from common_bench.model.plan import Condition
from common_bench.model.trouble import Trouble, UnitTrouble
from common_bench.model.units import unit

NUMBER = re.compile(
    r"^\s*(?P<name>[^\W\d_]\w*)\s*(?:\((?P<unit>[^)]*)\))?\s*(?:(?:±|\+-)\s*(?P<u>[\d.,eE+-]*\d))?\s*(?P<rest>(?:;.*)?)$"
)
LISTED = re.compile(r"^\s*(?P<name>[^\W\d_]\w*)\s*:\s*(?P<entries>[^;]+?)\s*(?P<rest>(?:;.*)?)$")
SHARED, EACH_RUN, AT_END, AT = "same for all", "each run", "each run at its end", "at "


def condition_line(condition: Condition) -> str:
    """A condition as it is typed; `read_condition_line` reads it again."""
    if condition.kind == "number":
        told = condition.name + (f" ({condition.unit})" if condition.unit else "") + f" ± {condition.u:g}"
    else:
        told = f"{condition.name}: {', '.join(condition.choices) if condition.kind == 'choice' else 'words'}"
    if condition.same_for_all:
        told += f"; {SHARED}"
    if condition.per_run:
        told += f"; {AT_END if condition.at_end else EACH_RUN}"
    if condition.values:
        told += f"; {AT}{' '.join(f'{each:g}' for each in condition.values)}"
    return told + (f"   # {condition.about}" if condition.about else "")


def read_condition_line(line: str) -> Condition:
    """`length (m) ± 0.003; each run; at 0.5 0.7   # remark`, `soil: sand, clay`, `sky: words`. Raises UnitTrouble."""
    said, _, about = line.partition("#")
    found = NUMBER.match(said.rstrip())
    if found:
        unit(found["unit"] or "")
        made = Condition(
            found["name"], (found["unit"] or "").strip(), _number(found["u"]) if found["u"] else 0.0, about.strip()
        )
        return _flagged(made, found["rest"])
    listed = LISTED.match(said.rstrip())
    if not listed:
        raise UnitTrouble("not-a-condition-here")
    entries = tuple(each.strip() for each in listed["entries"].split(",") if each.strip())
    if entries == ("words",):
        return _flagged(Condition(listed["name"], about=about.strip(), kind="words"), listed["rest"])
    return _flagged(Condition(listed["name"], about=about.strip(), kind="choice", choices=entries), listed["rest"])


def _number(text: str) -> float:
    try:
        return number(text)
    except ValueError:
        raise UnitTrouble("condition-u-no-number", found=text) from None


def _flagged(made: Condition, rest: str) -> Condition:
    shared = each_run = at_end = False
    values: tuple[float, ...] = ()
    for flag in (each.strip() for each in rest.split(";") if each.strip()):
        if flag == SHARED:
            shared = True
        elif flag == EACH_RUN:
            each_run = True
        elif flag == AT_END:
            each_run = at_end = True
        elif flag.startswith(AT):
            values = tuple(_number(each) for each in flag[len(AT) :].replace(",", " ").split())
        else:
            raise UnitTrouble("no-such-flag", flag=flag)
    return Condition(
        made.name, made.unit, made.u, made.about, made.kind, made.choices, shared, each_run, values, at_end
    )  # fmt: skip


def condition_faults(lines: list[str]) -> list[tuple[int, int, int, str]]:
    """(line, start, end, sentence) of each line that cannot be read, or that names a condition again."""
    found, names = [], set()
    for at, line in enumerate(lines):
        if not line.strip():
            continue
        try:
            condition = read_condition_line(line)
            if condition.name.lower() in names:
                raise UnitTrouble("condition-twice", name=condition.name)
            names.add(condition.name.lower())
        except Trouble as trouble:
            found.append((at, 0, len(line), trouble.sentence))
    return found
