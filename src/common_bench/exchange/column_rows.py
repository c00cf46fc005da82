"""Rows of cells that are not kept as a list of lists, as those of a long file (`plain_rows.py`, `long_tables.py`)."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from typing import NamedTuple, overload

from common_bench.exchange.steps import are_known
from common_bench.model.block import Floats, Ints

Buffer = bytes | memoryview


class RowLines(NamedTuple):
    """Rows as lines. data: all of them as one; sizes: (n,) bytes of each."""

    data: Buffer
    sizes: Ints


class ColumnRows(Sequence[list[str]]):
    """They look like a list of lists, each of which is made when it is asked for."""

    @abstractmethod
    def _row(self, at: int) -> list[str]: ...

    def _some(self, rows: range) -> list[list[str]]:
        return [self._row(each) for each in rows]

    @overload
    def __getitem__(self, at: int) -> list[str]: ...
    @overload
    def __getitem__(self, at: slice) -> list[list[str]]: ...
    def __getitem__(self, at: int | slice) -> list[str] | list[list[str]]:
        rows = range(len(self))
        return self._some(rows[at]) if isinstance(at, slice) else self._row(rows[at])

    def column(self, at: int) -> list[str]:
        return [row[at] for row in self]

    @abstractmethod
    def counts(self, at: int, most: int) -> dict[str, int] | None:
        """How often each text stands in a column, in the order of their first; None where there are more than `most`."""

    @abstractmethod
    def only(self, columns: Sequence[int]) -> ColumnRows:
        """Some of the columns."""

    @abstractmethod
    def taken(self, rows: Sequence[int]) -> ColumnRows:
        """Some of the rows."""

    @abstractmethod
    def between(self, low: int, high: int) -> ColumnRows:
        """Rows low to high (exclusive)."""

    @abstractmethod
    def numbers(self, at: int, *, comma: bool) -> Floats | None:
        """A column as numbers, nan where a cell holds no value; None where a cell is anything else. Must not be changed."""

    def are_known(self, at: int, *, comma: bool) -> bool:
        """Whether none of a column's numbers is missing."""
        found = self.numbers(at, comma=comma)
        return found is not None and are_known(found)

    def are_numbers(self, at: int, *, comma: bool) -> bool:
        """Whether `numbers` gives any."""
        return self.numbers(at, comma=comma) is not None

    def let_go(self) -> None:
        """Gives up what takes room and can be made again."""
        return

    @abstractmethod
    def lines(self, numbers: Ints, t: Floats, columns: Sequence[int], *, comma: bool) -> RowLines:
        """Lines `12;3.500000;271044;21.4` of the number of a row in its file, its time in s, and its numbers as they stand there
        (those of some columns)."""
