"""How far something that takes its time has come: told by who does it, read by who waits for it."""

from __future__ import annotations

from common_bench.model.trouble import Trouble


class LongTask:
    """Guarantees that who does the work hears of a stop the next time that it tells how far it is. share: of the whole, 0 to 1."""

    def __init__(self) -> None:
        self.share = 0.0
        self._stopped = False

    def stop(self) -> None:
        """Says that nobody waits any more."""
        self._stopped = True

    def tell(self, share: float) -> None:
        """Raises Trouble where somebody has said stop."""
        self.share = share
        if self._stopped:
            raise Trouble("stopped-half-way")
