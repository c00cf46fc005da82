"""How things that stand side by side share the room that there is."""

from __future__ import annotations

from collections.abc import Sequence


def shares(wanted: Sequence[int], least: Sequence[int], room: int) -> list[int]:
    """px for each: what it wants where all have room; else the widest give way first, each down to its least.

    wanted, least: px, 0 ≤ least ≤ wanted. The sum is at most `room`, unless the least of all is more.
    """
    given = list(wanted)
    over = sum(given) - room
    while over > 0:
        yielding = [at for at, wide in enumerate(given) if wide > least[at]]
        if not yielding:
            return given
        widest = max(given[at] for at in yielding)
        these = [at for at in yielding if given[at] == widest]
        lower = max([given[at] for at in yielding if given[at] < widest] + [max(least[at] for at in these)])
        step = min(widest - lower, max(1, over // len(these)))
        for at in these:
            taken = min(max(1, step), over)
            given[at] -= taken
            over -= taken
    return given
