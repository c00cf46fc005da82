"""Python's collector of circles, kept to the window's thread while there is a window."""

from __future__ import annotations

import gc

from PyQt6.QtCore import QObject, QTimer

EVERY = 200  # ms
OLDEST = 2  # of the generations
GROWN = 1.25  # times as many objects, from which it is worth while


class Sweeper(QObject):
    """By itself the collector runs in whichever thread happens to make objects, and what it takes down there may be
    a part of the window, which Qt allows its own thread alone. Guarantees that it runs in this thread only, by the
    generations and thresholds that Python itself goes by, until it is stopped: all of the old ones are walked through, which holds the
    window up, only once there are a quarter more of them than there were the last time."""

    _there = 0  # windows

    def __init__(self, window: QObject) -> None:
        super().__init__(window)
        Sweeper._there += 1
        gc.disable()
        gc.freeze()  # what is there before the window stays to the end: it is not walked through again and again
        self._old = 0  # objects of the oldest generation that the last walk has left
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.sweep)
        self._timer.start(EVERY)

    def sweep(self) -> None:
        due = [generation for generation, (count, most) in enumerate(zip(gc.get_count(), gc.get_threshold(), strict=True)) if count > most]  # fmt: skip
        if due and due[0] == 0:
            oldest = 0
            while oldest + 1 in due:
                oldest += 1
            if oldest == OLDEST and len(gc.get_objects(OLDEST)) <= GROWN * self._old:
                oldest -= 1
            gc.collect(oldest)
            if oldest == OLDEST:
                self._old = len(gc.get_objects(OLDEST))

    def stop(self) -> None:
        """The collector goes by itself again, once the last window has stopped."""
        if self._timer.isActive():
            self._timer.stop()
            Sweeper._there -= 1
            if Sweeper._there == 0:
                gc.unfreeze()
                gc.enable()
