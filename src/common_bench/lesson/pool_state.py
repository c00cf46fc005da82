"""How a pool is open: sealed, for all, for all but without names, or for one group after another. One number in the book."""

from __future__ import annotations

from collections.abc import Sequence

from common_bench.model.bench import Group

SEALED, OPEN, WITHOUT_NAMES, ONE_AFTER_ANOTHER = 0, 1, 2, 4
FIRST = 8  # bit of the group at position 0, where one is shown after another
WORDS = {SEALED: "sealed", OPEN: "open", WITHOUT_NAMES: "values first"}


def is_open(state: int) -> bool:
    """Whether every group may see all findings, if not whose they are."""
    return state in (OPEN, WITHOUT_NAMES)


def shown_groups(state: int, groups: Sequence[Group]) -> frozenset[int]:
    """Groups whose findings may be seen."""
    if is_open(state):
        return frozenset(group.id for group in groups)
    return frozenset(
        group.id for group in groups if state & ONE_AFTER_ANOTHER and state >> (FIRST + group.position) & 1
    )


def with_group(state: int, group: Group) -> int:
    """One group more."""
    return state | ONE_AFTER_ANOTHER | 1 << (FIRST + group.position)


def state_words(state: int, shown: int, groups: int) -> str:
    return WORDS.get(state, f"{shown} of {groups} shown")
