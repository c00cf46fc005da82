"""What the window looks at a few times a second, one part after the other, so that frames are drawn in between."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Sequence

from PyQt6.QtCore import QObject, QTimer

EVERY, REST = 250, 8  # ms between two rounds, and that the window is left alone between two parts of one
AT_ONE_TIME = 0.006  # s, after which the next part waits


class Rounds(QObject):
    """Guarantees that all parts are done in their order, each once a round, and that a round begins only when the one before it
    is over. A part that gives True has more to do, and is asked again before the next."""

    def __init__(self, window: QObject, parts: Sequence[Callable[[], object]]) -> None:
        super().__init__(window)
        self._parts, self._left = parts, deque[Callable[[], object]]()
        self._begins, self._goes_on = QTimer(self), QTimer(self)
        self._goes_on.setSingleShot(True)
        self._begins.timeout.connect(self._begin)
        self._goes_on.timeout.connect(self._some)
        self.start()

    def start(self) -> None:
        self._begins.start(EVERY)

    def stop(self) -> None:
        for each in (self._begins, self._goes_on):
            each.stop()
        self._left.clear()

    def whole(self) -> None:
        """All of them, here and now."""
        for each in self._parts:
            each()

    def _begin(self) -> None:
        if not self._left:
            self._left.extend(self._parts)
            self._some()

    def _some(self) -> None:
        until = time.monotonic() + AT_ONE_TIME
        while self._left and time.monotonic() < until:
            part = self._left.popleft()
            if part() is True:
                self._left.appendleft(part)
                break
        if self._left:
            self._goes_on.start(REST)
