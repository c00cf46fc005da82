"""Workings that lead from one reading to a quantity, as a data sheet gives them. Series in, Series out."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from common_bench.model.block import Series, Source
from common_bench.model.trouble import UnitTrouble, WorkingTrouble, as_another
from common_bench.model.units import counts_from_own_zero, is_unit, same_kind
from common_bench.workings.arithmetic import elementwise, shown_in
from common_bench.workings.kinds import kind_of
from common_bench.workings.reading import Node, Read, read_working
from common_bench.workings.shapes import Kind
from common_bench.workings.spans import NumberOf
from common_bench.workings.streams import Value

READING = "reading"
MOST_LINES = 12


class Formula:
    """Lines in order; the first may use `reading`, each the ones before it, the last gives the quantity.

    Each constant with an uncertainty, as `3.30 ± 0.02 V`, is a source of its own that all readings share.
    """

    def __init__(self, lines: Sequence[str], reading_unit: str, wanted: str = "", *, strict: bool = False) -> None:
        """strict: refuses what could be a temperature or a difference of two and does not say which. Raises
        WorkingTrouble with the line where one cannot be read or its unit does not fit."""
        if not lines or len(lines) > MOST_LINES:
            raise WorkingTrouble("chain-too-long", most_lines=MOST_LINES)
        self._raw_unit = reading_unit if is_unit(reading_unit) else ""
        kinds: dict[str, Kind] = {READING: Kind("series", self._raw_unit)}
        self._lines: list[tuple[Read, Kind]] = []
        for number, text in enumerate(lines, 1):
            try:
                read = read_working(text)
                if read.name in kinds:
                    raise WorkingTrouble("step-named-again", name=read.name)
                kind = kind_of(read, kinds, {})
                if kind.shape not in ("series", "number") or kind.late:
                    raise WorkingTrouble("step-gives-no-series", words=kind.words)
                if number == len(lines) and kind.shape != "series":
                    raise WorkingTrouble("step-without-reading")
                if number == len(lines) and wanted:
                    kind = _wanted(kind, wanted, explicit=bool(read.unit) or not strict)
            except WorkingTrouble as trouble:
                trouble.where = f"step {number} “{text}”" if len(lines) > 1 else f"“{text}”"
                raise
            kinds[read.name] = kind
            self._lines.append((read, kind))
        read, kind = self._lines[0]
        only_named = read.expression.form == "name" and read.expression.word == READING
        self.as_it_comes = len(self._lines) == 1 and only_named and kind.unit == self._raw_unit

    @property
    def unit(self) -> str:
        return self._lines[-1][1].unit

    def of(self, reading: Series) -> Series:
        """(n,) raw readings with their shares -> (n,) the last quantity with its shares; nan stays nan."""
        if self.as_it_comes:
            shares = {source: np.broadcast_to(share, reading.values.shape) for source, share in reading.parts.items()}
            return Series(reading.t, reading.values, self.unit, shares)
        own = set(reading.parts)
        values: dict[str, Value] = {READING: Series(reading.t, reading.values, self._raw_unit, reading.parts)}
        for read, kind in self._lines:
            found = shown_in(_of(read.expression, values, read.name), kind.unit)
            values[read.name] = _named(found, read.name, own)
        last = values[self._lines[-1][0].name]
        assert isinstance(last, Series)
        shares = {source: np.broadcast_to(share, last.values.shape) for source, share in last.parts.items()}
        return Series(reading.t, last.values, last.unit, shares)


def _of(node: Node, values: dict[str, Value], line: str) -> Value:
    if node.form == "name" and node.word in values:
        return values[node.word]
    return elementwise(node, [_of(each, values, line) for each in node.operands], line)


def _named(value: Value, name: str, own: set[Source]) -> Value:
    """Constants that came in with this line are told by its name, so that no two lines share one by chance."""

    def called(source: Source) -> Source:
        return (
            source if source in own or " in " in source.name else Source(f"{source.name} in {name}", True, source.which)
        )

    if isinstance(value, Series):
        parts = {called(source): share for source, share in value.parts.items()}
        return Series(value.t, value.values, value.unit, parts, value.guess, value.since)
    assert isinstance(value, NumberOf)
    return NumberOf(value.value, value.unit, {called(source): share for source, share in value.parts.items()})


def _wanted(kind: Kind, unit: str, *, explicit: bool) -> Kind:
    try:
        fits = same_kind(kind.unit, unit)
    except UnitTrouble as trouble:
        raise as_another(WorkingTrouble, trouble) from None
    if not fits and kind.unit:
        raise WorkingTrouble("gives-another-unit", unit=kind.unit, wanted=unit or "a pure number")
    if fits and counts_from_own_zero(unit) and not counts_from_own_zero(kind.unit) and not explicit:
        raise WorkingTrouble("kelvin-for-temperature", unit=kind.unit, wanted=unit)
    return Kind(kind.shape, unit if fits else "", kind.events, kind.late)
