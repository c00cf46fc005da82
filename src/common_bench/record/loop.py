"""The engine's own thread: one selector for all links, a turn every few milliseconds, commands in between."""

from __future__ import annotations

import contextlib
import logging
import selectors
import socket
import threading
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future
from concurrent.futures import TimeoutError as NotInTime
from typing import Any, Protocol, TypeVar

from common_bench.model.trouble import EngineTrouble

TICK = 0.03  # s of our own time between two turns of the flow; a block of a few lines costs no more than one
TICK_APART = 0.0315  # the same where the engine has a process of its own
REST = 0.5  # of the work of a turn, that others have before the next, however slow the machine is
OVERSLEPT = 0.02  # s beyond what it asked for, that the loop slept because others had the interpreter
AT_ONCE = 0.001  # s: something lay there before it listened
KEPT_BUSY = 0.01  # s without listening, after which it is asked for what lies there before anything is waited for
LONGEST_FRAME = 0.05  # s that a turn waits for what is drawn of the one before
MOST_FALLS, FALLS_WITHIN = 5, 20.0  # so many failures in so many s, and the loop is given up rather than begun again

Given = TypeVar("Given")
log = logging.getLogger(__name__)


def turns_every(*, apart: bool) -> float:
    """s of our own time between two turns of a kit; apart: the engine has a process of its own."""
    return TICK_APART if apart else TICK


def passing() -> float:
    """s that pass whatever the computer's clock is set to, and while it sleeps."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)


class Falls:
    """Failures one after another, of something that is begun again after each."""

    def __init__(self) -> None:
        self._at: deque[float] = deque(maxlen=MOST_FALLS)  # monotonic s

    def too_many(self) -> bool:
        """Counts one more, and says whether it is to be given up."""
        self._at.append(time.monotonic())
        return len(self._at) == MOST_FALLS and self._at[-1] - self._at[0] < FALLS_WITHIN


class Waitable(Protocol):
    """Something that the selector can wait on."""

    def fileno(self) -> int: ...


class Loop:
    """Guarantees that a command runs between two readings of links, whole and in order; that its caller gets its
    answer, what it raised, or that it took too long; and that a failure in a turn neither ends the loop nor
    goes unseen: `fell` is told, and after too many of them `broken` says so.
    """

    def __init__(
        self, read: Callable[[Any], bool], turn: Callable[[], None], fell: Callable[[BaseException], None],
        rest: float | None = REST,
    ) -> None:  # fmt: skip
        """rest: of the work of a turn, that others have before the next; None where there are none, and a turn that comes late is
        made up for; read: takes what was registered with a link that has something, and says whether a turn is due at once;
        turn: the flow; fell: told of an exception that either let through."""
        self._read, self._turn, self._fell, self._rest = read, turn, fell, rest
        self._selector = selectors.DefaultSelector()
        self._commands: deque[tuple[Future[Any], Callable[[], Any]]] = deque()
        self._wake_ours, self._wake_theirs = socket.socketpair()
        for end in (self._wake_ours, self._wake_theirs):
            end.setblocking(False)
        self._selector.register(self._wake_ours, selectors.EVENT_READ, None)
        self._going = True
        self._draws_since: float | None = None  # monotonic s
        self.tick = TICK
        self._due = 0.0  # when the next turn would be, on that clock
        self._started = False
        self.deaf_since = self._read_all = passing()  # s: of what is being read nothing came before that time
        self.broken: BaseException | None = None  # what it was given up for
        self._thread = threading.Thread(target=self._run, name="engine", daemon=True)

    def start(self) -> None:
        self._started = True
        self._thread.start()

    @property
    def is_alive(self) -> bool:
        return self._thread.is_alive()

    @property
    def has_died(self) -> bool:
        """Whether it was going and is not, though nobody ended it."""
        return self._started and self._going and not self._thread.is_alive()

    @property
    def is_going(self) -> bool:
        """Whether nobody has ended it."""
        return self._going

    def end(self) -> None:
        """No further turn; to be called by a command."""
        self._going = False

    def join(self, within: float) -> bool:
        """Whether it has ended within s."""
        self._thread.join(within)
        if self._thread.is_alive():
            return False
        self._selector.close()
        for end in (self._wake_ours, self._wake_theirs):
            end.close()
        return True

    def watch(self, link: Waitable, what: object) -> None:
        self._selector.register(link.fileno(), selectors.EVENT_READ, what)

    def unwatch(self, link: Waitable) -> None:
        with contextlib.suppress(KeyError, ValueError, OSError):
            self._selector.unregister(link.fileno())

    def hold_if(self, draws: Callable[[], bool]) -> None:
        """Where something is drawn now, the next turn waits for it, so that the two do not take the one interpreter from each other
        again and again, but no longer than LONGEST_FRAME; links are read meanwhile. In the loop's own thread."""
        self._draws_since = time.monotonic()  # before it is asked for, since it may be drawn at once
        if not draws():
            self._draws_since = None

    def release(self) -> None:
        """What was waited for is drawn. From another thread."""
        if self._draws_since is not None:
            self._draws_since = None
            self._wake()  # it sleeps until the longest frame would be over

    def _wake(self) -> None:
        with contextlib.suppress(OSError):  # full: it is awake already; or closed
            self._wake_theirs.send(b"!")

    # commands, from other threads

    def post(self, command: Callable[[], Given]) -> Future[Given]:
        """Has a command done as soon as it can be; in place where the loop does not run."""
        answer: Future[Given] = Future()
        if not self._thread.is_alive():
            _do(answer, command)
            return answer
        self._commands.append((answer, command))
        self._wake()
        return answer

    def ask(self, command: Callable[[], Given], within: float) -> Given:
        """Has a command done and gives its answer. Raises what it raises, or EngineTrouble where it is not done within
        s: either nothing of it was done, or it is being done still, as the trouble says."""
        answer = self.post(command)
        try:
            return answer.result(within)
        except NotInTime:
            if answer.cancel():
                raise EngineTrouble("engine-late", within=within) from None
            if answer.done():
                return answer.result()
            raise EngineTrouble("engine-busy", within=within) from None

    # in the engine's own thread

    def _run(self) -> None:
        falls = Falls()
        while self._going:
            try:
                self._drive()
            except Exception as fault:
                log.exception("the engine")
                if falls.too_many():
                    self.broken = fault
                with contextlib.suppress(Exception):
                    self._fell(fault)
                if self.broken is not None:
                    break
        self.do_commands()

    def _drive(self) -> None:
        self._due = time.monotonic()
        while self._going:
            full = False
            for key, _ in self._listen(max(0.0, self._next_turn() - time.monotonic())):
                if key.data is None:
                    self._woken()
                else:
                    full = self._read(key.data) or full
            self._read_all = passing()
            self.do_commands()
            if self._going and (full or time.monotonic() >= self._next_turn()):
                before = time.thread_time()
                self._turn()
                late = -self.tick if self._rest is None else self._rest * (time.thread_time() - before)
                self._due = max(self._due + self.tick, time.monotonic() + late)

    def _listen(self, within: float) -> list[tuple[selectors.SelectorKey, int]]:
        """What has something to be read, at the latest within s; and since when that may have lain there."""
        began = passing()
        if began - self._read_all > KEPT_BUSY and (found := self._selector.select(0)):
            self.deaf_since = self._read_all
            return found
        found = self._selector.select(within)
        slept = (ended := passing()) - began
        if slept > within + OVERSLEPT:
            self.deaf_since = began
        else:
            self.deaf_since = self._read_all if slept < AT_ONCE else ended
        return found

    def _next_turn(self) -> float:
        """When it is to be, on the monotonic clock."""
        since = self._draws_since
        return self._due if since is None else max(self._due, since + LONGEST_FRAME)

    def _woken(self) -> None:
        with contextlib.suppress(BlockingIOError):
            while self._wake_ours.recv(256):
                pass

    def do_commands(self) -> None:
        """Does what was asked for meanwhile; to be called in the loop's own thread, also within a long turn."""
        while self._commands:
            _do(*self._commands.popleft())


def _do(answer: Future[Any], command: Callable[[], Any]) -> None:
    if not answer.set_running_or_notify_cancel():
        return
    try:
        answer.set_result(command())
    except BaseException as fault:
        answer.set_exception(fault)
