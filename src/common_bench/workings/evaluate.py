"""Evaluating workings over blocks as they come, and over a span to single numbers."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import msgspec
import numpy as np

from common_bench.model.block import Block, Events, Rows, Series, joined
from common_bench.model.trouble import WorkingTrouble
from common_bench.model.units import same_kind
from common_bench.workings.arithmetic import elementwise, shown_in
from common_bench.workings.course import Course
from common_bench.workings.fit_kinds import RESIDUAL
from common_bench.workings.forms import Form
from common_bench.workings.kinds import CONSTANTS, kind_in, kind_of
from common_bench.workings.line_fits import FitEach, LineFit
from common_bench.workings.peaks import CLOCK_RATE
from common_bench.workings.reading import Node, Read, read_working
from common_bench.workings.shapes import Kind
from common_bench.workings.spans import NumberOf
from common_bench.workings.streams import FitsAt, Together, Value
from common_bench.workings.table import Given, within

NUMBERS = ("time", "level", "depth", "number of readings")  # what a form is made with
TOLD = (Series, Events)  # of what is worked out
LONGEST_NAME = 24  # characters by which a line is named
CLOCK = "@clock"  # among the results: relative standard uncertainty of the clock's rate at each reading
INNER = "@"  # in the name of a result that no working of its own names, as what stands in the brackets of a mean


@dataclass(frozen=True)
class Working:
    """One line: what was read, what it gives, or why it is refused."""

    text: str
    read: Read | None
    kind: Kind | None
    trouble: WorkingTrouble | None = None

    @property
    def name(self) -> str:
        return self.read.name if self.read else self.text.split("=")[0].strip()


@dataclass(frozen=True)
class Workings:
    """A checked list. Lines that are refused stay in it with their trouble; what depends on them is refused too."""

    lines: tuple[Working, ...]
    channels: Mapping[str, str] = field(default_factory=dict)
    raw: Mapping[str, str] = field(default_factory=dict)

    @property
    def kinds(self) -> dict[str, Kind]:
        return {line.name: line.kind for line in self.lines if line.kind}

    def __reduce__(self) -> tuple[Any, ...]:
        """As it was written, and checked again where it is read: what it was compiled to cannot be sent."""
        return check, ([line.text for line in self.lines], dict(self.channels), dict(self.raw))

    @property
    def troubles(self) -> list[WorkingTrouble]:
        return [line.trouble for line in self.lines if line.trouble]


def check(lines: Sequence[str], channels: Mapping[str, str], raw: Mapping[str, str] | None = None) -> Workings:
    """lines: workings in order; channels: channel -> unit of its quantity; raw: channel -> unit of its raw numbers. Never raises; troubles stand by the lines."""
    checked: list[Working] = []
    kinds: dict[str, Kind] = {}
    for text in lines:
        read: Read | None = None
        try:
            read = read_working(text)
            alike = next((name for name in kinds if name.lower() == read.name.lower()), None)
            if alike is not None:
                case = "again" if alike == read.name else "beside"
                raise WorkingTrouble("name-taken", end=len(read.name), name=read.name, other=alike, case=case)
            kinds[read.name] = kind_of(read, kinds, channels, {line.name for line in checked if line.trouble}, raw)
            checked.append(Working(text, read, kinds[read.name]))
        except WorkingTrouble as trouble:
            trouble.where = f"“{read.name if read else shorter(text)}”"
            checked.append(Working(text, read, None, trouble))
    return Workings(tuple(checked), dict(channels), dict(raw or {}))


def shorter(text: str) -> str:
    """What a line is called that has no name yet."""
    name = text.partition("=")[0].strip() or text.strip()
    return name if len(name) <= LONGEST_NAME else f"{name[:LONGEST_NAME]}…"


class Evaluator:
    """Workings over the blocks of one kit, from a beginning (a run's, or a link's).

    Joined, the results are the same to the last bit for every way of cutting the blocks, so what
    was seen live is what is found afterwards. What is not known at the end, as what lies less than half a window before it,
    is not told.
    """

    def __init__(self, workings: Workings, zero: float = 0.0, without: Sequence[tuple[str, float, float]] = ()) -> None:
        """zero: s from the first reading to where `time` is counted from; without: events that count nowhere, each by the
        line that finds it and between which s of `time` it lies."""
        self._zero, self._without = zero, tuple(without)
        self._unknown_before: dict[str, bool] = {}
        self._lines = [line for line in workings.lines if line.read and line.kind and not line.kind.late]
        self._inner = {
            inner_name(line.name, node): node
            for line in workings.lines
            if line.read and line.kind and line.kind.late
            for node in self._late_nodes(workings, line)
        }
        self._by_clock = any(line.kind.late for line in workings.lines if line.read and line.kind)
        self._channels, self._raw = workings.channels, workings.raw
        self._kinds = workings.kinds
        self._steps: dict[tuple[int, str], Any] = {}  # by node and the unit in which its quantity comes
        self._parts: dict[
            int, tuple[Node, list[Node], dict[str, Node]]
        ] = {}  # of forms: what they are about, and numbers
        self._courses: dict[tuple[int | str, str], Course] = {}
        self._together: dict[int, Together] = {}
        self._constants: dict[int, Value] = {}
        self._block: Block | None = None
        self._rows: dict[str, Rows] = {}
        self._all_rows: Rows | None = None  # where every line held it
        self._calibrated: Mapping[str, Series] = {}
        self._values: dict[str, Value] = {}
        self._found: dict[int, Value] = {}  # by node, in this block
        self._heard: dict[str, Series] = {}  # raw channels and the time by name, in this block
        self._line = ""  # the working that is worked out just now
        self._began = math.nan

    def push(self, block: Block, calibrated: Mapping[str, Series]) -> dict[str, Series | Events]:
        """calibrated: channel -> its quantity over the block. Gives what is new of each working by name."""
        self._block, self._calibrated, self._values, self._found, self._rows = block, calibrated, {}, {}, {}
        self._heard, self._all_rows = {}, None
        if math.isnan(self._began) and len(block):
            self._began = float(block.t[0]) + self._zero
        for line in self._lines:
            assert line.read is not None
            assert line.kind is not None
            self._line = line.name
            value = self._of(line.read.expression)
            if self._without and isinstance(value, Events):
                value = self._thinned(line.name, value)
            self._values[line.name] = value if isinstance(value, FitsAt) else shown_in(value, line.kind.unit)
        for name, node in self._inner.items():
            self._line = name.partition(INNER)[0]
            self._values[name] = self._of(node)
        if self._by_clock:
            self._values[CLOCK] = Series(block.t, block.clock_u)
        return {name: value for name, value in self._values.items() if isinstance(value, TOLD)}

    def _thinned(self, name: str, events: Events) -> Events:
        """Events of a line without those that are set aside."""
        if not self._without:
            return events
        out = np.zeros(len(events), bool)
        for which, low, high in self._without:
            if which == name:
                out |= (events.t - self._began >= low) & (events.t - self._began <= high)
        unknown = self._unknown_before.get(name, False)
        if not out.any() and not unknown:
            return events
        fresh = []  # what lies before one that goes is not known before the next either
        for goes, begins in zip(out.tolist(), events.fresh.tolist(), strict=True):
            unknown = unknown or begins
            if not goes:
                fresh.append(unknown)
                unknown = False
        self._unknown_before[name] = unknown
        kept = {source: share[~out] for source, share in events.parts.items()}
        told = events.told[~out] if events.told is not None else None
        return Events(events.t[~out], np.array(fresh, bool), kept, told)

    @staticmethod
    def _late_nodes(workings: Workings, line: Working) -> list[Node]:
        assert line.read is not None
        if line.kind is not None and line.kind.shape == "fit":
            fit = line_fit(line.name, workings.kinds, workings.channels, workings.raw)
            named = [each for each in fit.needed if each.form == "name" and each.word in workings.kinds]
            return [each for each in fit.needed if each not in named]
        inner = _inner_nodes(line.read.expression, workings.kinds)
        return [each for each in inner if not is_residual(each, workings.kinds)]

    def _of(self, node: Node) -> Value:
        if id(node) not in self._found:
            self._found[id(node)] = self._worked(node)
        return self._found[id(node)]

    def _worked(self, node: Node) -> Value:
        if node.form == "quantity":
            if id(node) not in self._constants:
                self._constants[id(node)] = elementwise(node, (), self._line)
            return self._constants[id(node)]
        if node.form == "calibrated":
            return self._series(node.word)
        if node.form == "name" and (node.word in self._values or node.word not in CONSTANTS):
            return self._named(node.word)
        if node.table is not None and not node.table.each:
            return self._stepped(node, node.table)
        if node.form == "fitted":
            return self._fitted(node)
        if node.form == "parameter":
            fits = self._values[node.operands[0].word]
            assert isinstance(fits, FitsAt)
            return fits.of(node.word)
        operands = [self._of(each) for each in node.operands]
        if len(operands) > 1:
            operands = self._together.setdefault(id(node), Together(len(operands))).push(operands)
        return elementwise(node, operands, self._line)

    def _named(self, name: str) -> Value:
        if name in self._values:
            return self._values[name]
        block = self._block
        assert block is not None
        if name not in self._heard:
            if name in self._raw:
                values = block.channels.get(name, np.full(len(block), np.nan))
                self._heard[name] = Series(block.t, values, self._raw[name], {}, rows=self._rows_of(name))
            else:
                since = block.t - self._began
                parts = {CLOCK_RATE: since * block.clock_u} if np.count_nonzero(block.clock_u) else {}
                self._heard[name] = Series(block.t, since, "s", parts, rows=self._rows_of(""))
        return self._heard[name]

    def _series(self, channel: str) -> Series:
        assert self._block is not None
        wanted = self._channels.get(channel, "")
        found = self._calibrated.get(channel)
        if found is not None and (found.unit == wanted or same_kind(found.unit, wanted)):
            rows = self._rows_of(channel)
            return Series(found.t, found.values, found.unit, found.parts, found.guess, found.since, found.edges, rows)
        # as long as nothing gives it in its unit
        return Series(self._block.t, np.full(len(self._block), np.nan), wanted, rows=self._rows_of(channel))

    def _rows_of(self, channel: str) -> Rows:
        """What is known of a channel's readings; those of one line are one."""
        block = self._block
        assert block is not None
        if channel not in self._rows:
            raw = None if block.whole else block.channels.get(channel)
            there = None if raw is None else np.isfinite(raw)
            if there is not None and np.count_nonzero(there) == len(there):
                there = None
            if there is None and self._all_rows is None:
                self._all_rows = Rows.of(block)
            self._rows[channel] = self._all_rows if there is None and self._all_rows else Rows.of(block, there)
        return self._rows[channel]

    def _stepped(self, node: Node, form: Form) -> Value:
        if id(node) not in self._parts:
            made = self._maker(node.operands[0]) if form.name == "time within" else node
            assert made.table is not None
            takes = made.table.takes
            pairs = list(zip(made.slots, made.operands, strict=True))
            numbers = {slot: each for slot, each in pairs if takes[slot] in NUMBERS}
            self._parts[id(node)] = made, [each for slot, each in pairs if slot not in numbers], numbers
        made, about, numbers = self._parts[id(node)]
        values = [self._of(each) for each in about]
        unit = values[0].unit if isinstance(values[0], Series) else ""
        place = id(node), unit
        if place not in self._steps:
            known = {slot: self._of(each) for slot, each in numbers.items()}
            asked = Given(known, unit, f"{self._line}:{node.start}", self._late(node), self._course(about[0], unit))
            if made is not node:
                self._steps[place] = within(asked, made.form)  # type: ignore[arg-type]
            else:
                assert form.step is not None
                self._steps[place] = form.step(asked)
        found: Value = self._steps[place].push(*values, self._block)
        return found

    def _course(self, node: Node, unit: str) -> Course:
        """Of what a form is about; one for all forms that name the same quantity."""
        key: tuple[int | str, str] = node.word if node.form == "name" else id(node), unit
        return self._courses.setdefault(key, Course())

    def _fitted(self, node: Node) -> Value:
        """Fits from each event; those over a span are left for then."""
        place = id(node), ""
        if place not in self._steps:
            line = line_fit(self._line, self._kinds, self._channels, self._raw)
            assert line.each is not None
            seconds = self._of(line.each.operands[1])
            held = {name: self._of(each) for name, each in line.held.items()}
            assert isinstance(seconds, NumberOf)
            numbers = {name: each for name, each in held.items() if isinstance(each, NumberOf)}
            self._steps[place] = FitEach(line, seconds.to("s").value, numbers), line
        step, line = self._steps[place]
        events = self._of(line.each.operands[0])
        fits: FitsAt = step.push([self._of(each) for each in line.needed], events)
        return fits

    def _maker(self, node: Node) -> Node:
        """The node that finds the events which a node names."""
        made = self._kinds[node.word].made if node.form == "name" else node
        assert made is not None
        return made

    def _late(self, node: Node) -> float:
        """By how many s the events among a form's operands come late."""
        events = node.part("e")
        if events is None:
            return 0.0
        return kind_in(events, self._line, self._kinds, self._channels, self._raw).delay


def line_fit(name: str, kinds: Mapping[str, Kind], channels: Mapping[str, str], raw: Mapping[str, str]) -> LineFit:
    """The checked line `name`, which fits, taken apart."""
    before = {other: kind for other, kind in kinds.items() if other != name}
    return LineFit(name, kinds[name], lambda node: kind_in(node, name, before, channels, raw))


def is_residual(node: Node, kinds: Mapping[str, Kind]) -> bool:
    """Whether it is what a fit over a span leaves, which is there only once the span is chosen."""
    return node.form == "parameter" and node.word == RESIDUAL and kinds[node.operands[0].word].late


def inner_name(line: str, node: Node) -> str:
    """The name of a result that stands inside the working called `line`."""
    return f"{line}{INNER}{node.start}"


def _inner_nodes(node: Node, named: Mapping[str, Kind]) -> list[Node]:
    """What a working over a span needs that no other working names."""
    if node.table is not None and node.table.over is not None:
        if node.table.step is not None:
            return [node]
        return [each for each in node.operands if each.form != "name" or each.word not in named]
    return [each for operand in node.operands for each in _inner_nodes(operand, named)]


def gathered(pieces: Sequence[Mapping[str, Series | Events]]) -> dict[str, Series | Events]:
    """Consecutive results of an evaluator as whole results by name."""
    whole: dict[str, Series | Events] = {}
    for name in dict.fromkeys(name for piece in pieces for name in piece):
        found = [piece[name] for piece in pieces if name in piece]
        if isinstance(found[0], Series):
            whole[name] = msgspec.structs.replace(
                joined([each for each in found if isinstance(each, Series)]), rows=None
            )
        else:
            events = [each for each in found if isinstance(each, Events)]
            sources = dict.fromkeys(source for each in events for source in each.parts)
            whole[name] = Events(
                np.concatenate([each.t for each in events]),
                np.concatenate([each.fresh for each in events]),
                {s: np.concatenate([each.parts.get(s, np.zeros(len(each))) for each in events]) for s in sources},
            )
    return whole
