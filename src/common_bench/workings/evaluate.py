"""Evaluating workings over blocks as they come, and over a span to single numbers."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from common_bench.model.block import Block, Bools, Events, Series, Source, joined
from common_bench.model.measured import Measured
from common_bench.model.trouble import WorkingTrouble
from common_bench.model.units import counts_from_own_zero, same_kind
from common_bench.workings.arithmetic import Value, elementwise, shown_in
from common_bench.workings.crossings import Crossed, CrossingFinder, Pairs, Way
from common_bench.workings.kinds import Kind, kind_of
from common_bench.workings.missing import Absences
from common_bench.workings.peaks import PeakFinder, gaps_between
from common_bench.workings.reading import Node, Read, read_working
from common_bench.workings.second_order import by_simulation
from common_bench.workings.spans import NumberOf, number_over, time_of_first

LONGEST_NAME = 24  # characters by which a line is named
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

    @property
    def kinds(self) -> dict[str, Kind]:
        return {line.name: line.kind for line in self.lines if line.kind}

    @property
    def troubles(self) -> list[WorkingTrouble]:
        return [line.trouble for line in self.lines if line.trouble]


def check(lines: Sequence[str], channels: Mapping[str, str]) -> Workings:
    """lines: workings in order; channels: channel -> unit of its quantity. Never raises; troubles stand by the lines."""
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
            kinds[read.name] = kind_of(read, kinds, channels, {line.name for line in checked if line.trouble})
            checked.append(Working(text, read, kinds[read.name]))
        except WorkingTrouble as trouble:
            trouble.where = f"“{read.name if read else shorter(text)}”"
            checked.append(Working(text, read, None, trouble))
    return Workings(tuple(checked), dict(channels))


def shorter(text: str) -> str:
    """What a line is called that has no name yet."""
    name = text.partition("=")[0].strip() or text.strip()
    return name if len(name) <= LONGEST_NAME else f"{name[:LONGEST_NAME]}…"


class Evaluator:
    """Workings over the blocks of one kit, from a beginning (a run's, or a link's).

    Joined, the results are the same to the last bit for every way of cutting the blocks, so what
    was seen live is what is found afterwards.
    """

    def __init__(self, workings: Workings) -> None:
        self._lines = [line for line in workings.lines if line.read and line.kind and not line.kind.late]
        self._inner = {
            inner_name(line.name, node): node
            for line in workings.lines
            if line.read and line.kind and line.kind.late
            for node in _inner_nodes(line.read.expression)
        }
        self._channels = workings.channels
        self._finders: dict[tuple[int, str], PeakFinder] = {}  # by node and the unit in which its quantity comes
        self._crossings: dict[tuple[int, str], CrossingFinder] = {}
        self._pairs: dict[int, Pairs] = {}
        self._absences: dict[int, Absences] = {}
        self._before: dict[int, Events] = {}
        self._kinds = workings.kinds
        self._block: Block | None = None
        self._calibrated: Mapping[str, Series] = {}
        self._values: dict[str, Value] = {}
        self._line = ""  # the working that is worked out just now

    def push(self, block: Block, calibrated: Mapping[str, Series]) -> dict[str, Series | Events]:
        """calibrated: channel -> its quantity over the block. Gives what is new of each working by name."""
        self._block, self._calibrated, self._values = block, calibrated, {}
        for line in self._lines:
            assert line.read is not None
            assert line.kind is not None
            self._line = line.name
            self._values[line.name] = shown_in(self._of(line.read.expression), line.kind.unit)
        for name, node in self._inner.items():
            self._line = name.partition(INNER)[0]
            self._values[name] = self._of(node)
        return {name: value for name, value in self._values.items() if not isinstance(value, NumberOf)}

    def _of(self, node: Node) -> Value:
        if node.form == "calibrated":
            return self._series(node.word)
        if node.form == "name" and node.word in self._values:
            return self._values[node.word]
        if node.form == "peaks":
            return self._peaks(node)
        if node.form in ("crossings", "time_when"):
            return self._crossed(node)
        if node.form == "time_between":
            first, second = (self._of(each) for each in node.operands)
            assert isinstance(first, Events)
            assert isinstance(second, Events)
            assert self._block is not None
            return self._pairs.setdefault(id(node), Pairs()).push(first, second, self._block)
        if node.form == "gap_between":
            events = self._of(node.operands[0])
            assert isinstance(events, Events)
            before = self._before.get(id(node))
            found = gaps_between(events, before)
            if len(events):
                last = {source: share[-1:] for source, share in events.parts.items()}
                self._before[id(node)] = Events(events.t[-1:], events.fresh[-1:], last)
            return found
        return elementwise(node, [self._of(each) for each in node.operands], self._line)

    def _series(self, channel: str) -> Series:
        assert self._block is not None
        wanted = self._channels.get(channel, "")
        found = self._calibrated.get(channel)
        if found is not None and (found.unit == wanted or same_kind(found.unit, wanted)):
            return found
        return Series(
            self._block.t, np.full(len(self._block), np.nan), wanted
        )  # as long as nothing gives it in its unit

    def _crossed(self, node: Node) -> Events:
        assert self._block is not None
        series = self._of(node.operands[0])
        assert isinstance(series, Series)
        place = id(node), series.unit
        if place not in self._crossings:
            given: dict[str, NumberOf] = {}
            for clause in node.operands[1:]:
                number = self._of(clause.operands[0])
                assert isinstance(number, NumberOf)
                given[clause.form] = number
            level, apart, depth = (given.get(form) for form in ("through", "apart", "at_least"))
            way: Way = node.word  # type: ignore[assignment]
            crossed = Crossed(
                way, level.to(series.unit or level.unit).value if level else None, apart.to("s").value if apart else 0.0,
                depth.to(_difference(series.unit) or depth.unit).value if depth else 0.0,
            )  # fmt: skip
            self._crossings[place] = CrossingFinder(crossed)
        return self._crossings[place].push(series, replace(self._block, gap_before=self._gaps(node, series)))

    def _peaks(self, node: Node) -> Events:
        assert self._block is not None
        series = self._of(node.operands[0])
        assert isinstance(series, Series)
        place = id(node), series.unit
        if place not in self._finders:
            level, apart = (self._of(each) for each in node.operands[1:])
            assert isinstance(level, NumberOf)
            assert isinstance(apart, NumberOf)
            sign = -1.0 if node.word == "dips" else 1.0
            self._finders[place] = PeakFinder(
                sign * level.to(series.unit or level.unit).value, apart.to("s").value, sign=sign
            )
        return self._finders[place].push(series, self._gaps(node, series), self._block.clock_u)

    def _gaps(self, node: Node, series: Series) -> Bools:
        """Before which readings something is missing: lines, or values of this quantity."""
        assert self._block is not None
        if series.edges:  # it has a value only where it changes
            return self._block.gap_before
        return self._absences.setdefault(id(node), Absences()).gaps(series.values, self._block.gap_before)


def inner_name(line: str, node: Node) -> str:
    """The name of a result that stands inside the working called `line`."""
    return f"{line}{INNER}{node.start}"


def _inner_nodes(node: Node) -> list[Node]:
    """What a working over a span needs that no other working names."""
    if node.form == "time_when":
        return [node]
    if node.form == "over":
        return [] if node.operands[0].form == "name" else [node.operands[0]]
    return [each for operand in node.operands for each in _inner_nodes(operand)]


def _difference(unit_text: str) -> str:
    return "K" if counts_from_own_zero(unit_text) else unit_text


def gathered(pieces: Sequence[Mapping[str, Series | Events]]) -> dict[str, Series | Events]:
    """Consecutive results of an evaluator as whole results by name."""
    whole: dict[str, Series | Events] = {}
    for name in dict.fromkeys(name for piece in pieces for name in piece):
        found = [piece[name] for piece in pieces if name in piece]
        if isinstance(found[0], Series):
            whole[name] = joined([each for each in found if isinstance(each, Series)])
        else:
            events = [each for each in found if isinstance(each, Events)]
            sources = dict.fromkeys(source for each in events for source in each.parts)
            whole[name] = Events(
                np.concatenate([each.t for each in events]),
                np.concatenate([each.fresh for each in events]),
                {s: np.concatenate([each.parts.get(s, np.zeros(len(each))) for each in events]) for s in sources},
            )
    return whole


def over_span(
    workings: Workings, results: Mapping[str, Series | Events], span: tuple[float, float]
) -> dict[str, NumberOf]:
    """Every working that gives a single number, over readings with span[0] <= t <= span[1] (s)."""
    numbers: dict[str, NumberOf] = {}
    found: dict[int, NumberOf] = {}  # by node: a simulation asks for them a second time

    def over(node: Node) -> NumberOf:
        if node.form == "time_when":
            inner = inner_name(within, node)
            return time_of_first(results[inner], span, node.word, inner)
        operand = node.operands[0]
        inner = operand.word if operand.form == "name" else inner_name(within, operand)
        return number_over(node.word, results[inner], span, inner)

    def of(node: Node) -> Value:
        if node.form in ("over", "time_when"):
            if id(node) not in found:
                found[id(node)] = over(node)
            return found[id(node)]
        if node.form == "name" and node.word in numbers:
            return numbers[node.word]
        return elementwise(node, [of(each) for each in node.operands], within)

    within = ""
    for line in workings.lines:
        if line.read and line.kind and line.kind.shape == "number":
            within = line.name
            value = shown_in(of(line.read.expression), line.kind.unit)
            assert isinstance(value, NumberOf)
            numbers[line.name] = by_simulation(line.read.expression, line.kind.unit, value, of, line.name)
    return numbers


def number_from(text: str, names: Mapping[str, Measured]) -> Measured:
    """The value of one expression or working over named values, independent of each other.

    Raises WorkingTrouble where it cannot be read, checked or worked out.
    """
    read = read_working(text if "=" in text else f"value = {text}")
    kind = kind_of(read, {name: Kind("number", each.unit) for name, each in names.items()}, {})

    def of(node: Node) -> Value:
        if node.form == "name" and node.word in names:
            given = names[node.word]
            known = math.isfinite(given.u)
            source = Source(node.word, True, "", given.dof if known else 0.0)
            return NumberOf(given.value, given.unit, {source: given.u if known else 1.0})
        return elementwise(node, [of(each) for each in node.operands], read.name)

    value = shown_in(of(read.expression), kind.unit)
    assert isinstance(value, NumberOf)
    return by_simulation(read.expression, kind.unit, value, of, read.name).measured
