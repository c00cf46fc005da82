"""Plans as text files (TOML, `.benchplan`). Text in, a plan or the place of what is wrong out, and back."""

from __future__ import annotations

import difflib
import os
import re
import tomllib
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any

import msgspec
from msgspec import inspect

from common_bench.model.plan import PLAN_VERSION, Plan, measured_line
from common_bench.model.trouble import PlanTrouble, Trouble

SUFFIX = ".benchplan"
LARGEST_FILE = 1_000_000  # bytes; the longest plan that a class could run has a few thousand
DOTTED = re.compile(r"""(?<![\w\-"'.])(?:[\w\-"']++[ \t]*+\.[ \t]*+){99}""")  # what reads the file takes its square
DEEPEST = 12  # tables inside each other


def plan_from_text(text: str, where: str) -> Plan:
    """Reads a plan file's text. Raises PlanTrouble with the place and, for a key that is not known, the likely one."""
    if DOTTED.search(text):
        raise PlanTrouble("not-a-plan-file", where=where, fault="a key of a hundred parts")
    try:
        found = tomllib.loads(text)
    except (ValueError, RecursionError) as fault:  # a number of thousands of digits is a ValueError too
        raise PlanTrouble("not-a-plan-file", where=where, fault=fault or "too deep") from fault
    version = found.get("version", PLAN_VERSION)
    if isinstance(version, int) and version > PLAN_VERSION:
        raise PlanTrouble("plan-from-newer", where=where, version=version, known=PLAN_VERSION)
    unknown = next(_unknown(found, inspect.type_info(Plan), ""), None)
    if unknown is not None:
        place, key, near = unknown
        raise PlanTrouble(
            "plan-key-unknown", where=where, key=key, place=place or "the plan", near=near,
            case="near" if near else "", known=", ".join(_keys_at(found, place)),
        )  # fmt: skip
    try:
        plan = msgspec.convert(found, Plan)
    except (msgspec.ValidationError, Trouble) as fault:
        raise PlanTrouble("plan-unusable", where=where, fault=fault) from fault
    return _without_repeats(plan)


def _without_repeats(plan: Plan) -> Plan:
    """Without workings that only name a measured quantity again, as the first form of these files had them."""
    names = {measured_line(each) for each in plan.sensors}
    kept = tuple(line for line in plan.workings if " ".join(line.split()) not in names)
    return msgspec.structs.replace(plan, workings=kept) if kept != plan.workings else plan


def _unknown(value: Any, kind: Any, place: str, depth: int = 0) -> Iterator[tuple[str, str, str]]:
    """(place, key, the key that was likely meant) of each key that the type does not have."""
    if depth > DEEPEST:
        return
    if isinstance(kind, inspect.UnionType):
        kind = next((each for each in kind.types if not isinstance(each, inspect.NoneType)), kind)
    if isinstance(kind, inspect.StructType) and isinstance(value, dict):
        known = {field.encode_name: field.type for field in kind.fields}
        for key, each in value.items():
            if key not in known:
                near = difflib.get_close_matches(key, known, 1, 0.5)
                yield place, key, near[0] if near else ""
            else:
                yield from _unknown(each, known[key], f"{place}.{key}" if place else key, depth + 1)
    elif isinstance(kind, inspect.VarTupleType) and isinstance(value, list):
        for at, each in enumerate(value, 1):
            yield from _unknown(each, kind.item_type, f"{place} {at}", depth + 1)


def _keys_at(found: Any, place: str) -> list[str]:
    """The keys that the type at a place has."""
    kind: Any = inspect.type_info(Plan)
    for part in place.split(".") if place else ():
        kind = next(field.type for field in kind.fields if field.encode_name == part.split()[0])
        if isinstance(kind, inspect.UnionType):
            kind = next(each for each in kind.types if not isinstance(each, inspect.NoneType))
        if isinstance(kind, inspect.VarTupleType):
            kind = kind.item_type
    return [field.encode_name for field in kind.fields]


def plan_to_text(plan: Plan) -> str:
    """The plan as the text of a plan file; reading it again gives an equal plan. What is as usual is left out."""
    import tomli_w

    text: str = tomli_w.dumps(_told(plan), multiline_strings=True)
    return text


def _told(value: Any) -> Any:
    """A struct as a table of what differs from the usual, the version always; tuples as lists."""
    if isinstance(value, msgspec.Struct):
        told = {}
        for field in msgspec.structs.fields(value):
            own = getattr(value, field.name)
            usual = field.default_factory() if field.default_factory is not msgspec.NODEFAULT else field.default
            if field.name == "version" or (own != usual and own is not None):
                told[field.encode_name] = _told(own)
        return told
    if isinstance(value, dict):
        return {key: _told(each) for key, each in value.items()}
    return [_told(each) for each in value] if isinstance(value, (list, tuple)) else value


def plan_from_file(path: Path) -> Plan:
    """Reads a plan file. Raises PlanTrouble with the place."""
    try:
        if path.stat().st_size > LARGEST_FILE:
            raise PlanTrouble("plan-file-too-large", where=str(path), most=LARGEST_FILE // 1000)
        text = path.read_text("utf-8-sig")
    except (OSError, UnicodeDecodeError) as fault:
        raise PlanTrouble("plan-file-unreadable", where=str(path)) from fault
    return plan_from_text(text, str(path))


def plan_to_file(plan: Plan, path: Path, *, over: bool = False) -> Path:
    """Writes a plan file, whole or not at all; over: in the place of one that is there.

    Raises PlanTrouble where there is one already, or where it cannot be written.
    """
    named = path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)
    if named.exists() and not over:
        raise PlanTrouble("plan-file-there", where=str(named))
    part = named.with_name(f".{named.name}.part")
    try:
        named.parent.mkdir(parents=True, exist_ok=True)
        part.write_text(plan_to_text(plan), "utf-8")
        os.replace(part, named)
    except OSError as fault:
        part.unlink(missing_ok=True)
        raise PlanTrouble("plan-file-not-written", where=str(named), why=fault.strerror or fault) from fault
    return named


def shipped_names() -> list[str]:
    """The plans that come with the program, by their keys."""
    shelf = files("common_bench.model").joinpath("plans")
    return sorted(each.name.removesuffix(SUFFIX) for each in shelf.iterdir() if each.name.endswith(SUFFIX))


def shipped_plan(name: str) -> Plan:
    """A plan that comes with the program, as `swinging-bottles`."""
    found = files("common_bench.model").joinpath("plans", f"{name}{SUFFIX}")
    return plan_from_text(found.read_text("utf-8"), name)


def plan_schema() -> dict[str, Any]:
    """What a plan file may hold, as a JSON Schema made from the types."""
    return msgspec.json.schema(Plan)
