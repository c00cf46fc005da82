"""How often something is tried that holds by chance: as often as tells a small mistake in `make fuzz`, as a gross one does in
`make test`, which everybody waits for."""

from __future__ import annotations

import os

WHOLE = os.environ.get("PROFILE") == "explore"
SIGMAS = 3.0  # of a share by chance, that it may lie outside


def trials(whole: int, here: int) -> int:
    """whole: in `make fuzz`; here: in `make test`."""
    return whole if WHOLE else here


def between(held: float, least: float, most: float, count: int) -> bool:
    """Whether a share of so many trials is one that lies between these, as far as chance lets it tell."""

    def slack(share: float) -> float:
        return SIGMAS * (share * (1 - share) / count) ** 0.5

    return least - slack(least) <= held <= most + slack(most)
