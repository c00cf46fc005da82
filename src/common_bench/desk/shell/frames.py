"""When the window draws: after each of the engine's turns, so that what has come is seen at once and the two do not work
against each other; by itself where there are none, as before the first kit."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from PyQt6.QtCore import QEvent, QObject, Qt, QTimer, pyqtSignal

from common_bench.record import AnyEngine

LONGEST_WAIT = 0.1  # s that a worker gives way
WITHOUT_TURNS = 60  # ms after the last frame, after which there is one without a turn


class Frames(QObject):
    """Guarantees that at most one frame waits to be drawn, however slow drawing is; the engine's next turn waits for one, no
    longer than the engine allows. `least`: ms between two frames."""

    _turned = pyqtSignal()

    def __init__(self, window: QObject, engine: AnyEngine | None, draw: Callable[[], object]) -> None:
        super().__init__(window)
        self.least = 0
        self._window, self._engine, self._draw = window, engine, draw
        self._asked, self._last = False, 0.0
        self._drawn = threading.Event()  # one more, since somebody waits for it
        self._turned.connect(self._frame)  # queued, since it comes from another thread
        self._timer = QTimer(self)
        self._timer.setTimerType(Qt.TimerType.PreciseTimer)
        self._timer.timeout.connect(self._frame)
        self.start()

    def start(self) -> None:
        self._timer.start(WITHOUT_TURNS)
        if self._engine is not None:
            self._engine.turned = self._ask

    def stop(self) -> None:
        if self._engine is not None:
            self._engine.turned = lambda: False
            self._engine.drawn()
        self._timer.stop()

    def _ask(self) -> bool:
        """In the engine's own thread. True where a frame begins as soon as the window can; False where it has one to draw already."""
        if self._asked:
            return False
        self._asked = True
        try:
            self._turned.emit()
        except RuntimeError:  # the window has been taken down just now
            return False
        return True

    def _frame(self) -> None:
        try:
            self._draw_one()
        finally:
            self._drawn.set()
            if self._engine is not None:
                self._engine.drawn()

    def wait_for_one(self) -> None:
        """In a worker's thread: comes back when one more has been drawn, so that what takes its time is done between two of them, or after
        LONGEST_WAIT."""
        self._drawn.clear()
        self._drawn.wait(LONGEST_WAIT)

    def _draw_one(self) -> None:
        self._asked = False
        now = time.monotonic()
        if not self._timer.isActive() or (now - self._last) * 1000 < self.least:
            return
        self._last = now
        self._timer.start(WITHOUT_TURNS)
        self._draw()
        self._window.event(QEvent(QEvent.Type.UpdateRequest))  # painted now, not a few ms later
