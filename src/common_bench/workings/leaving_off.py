"""Fits that take seconds are left off when nobody waits for them any more, as when the window is closed. The thread's stop in;
an exception out."""

from __future__ import annotations

from threading import Event, local

_here = local()


class LeftOff(BaseException):
    """What was being worked out is not wanted any more; no fault, and nothing that a run could be marked with."""


def leaves_off_at(stop: Event) -> None:
    """Has the formulas that this thread works out from now on looked at so often that it ends soon after `stop` is set."""
    _here.stop = stop


def may_leave_off() -> None:
    """Raises LeftOff where this thread is to end. It costs a tenth of a µs."""
    stop = getattr(_here, "stop", None)
    if stop is not None and stop.is_set():
        raise LeftOff
