"""An engine in a process of its own, so that neither it nor the window waits for the other's interpreter. Commands in; what is seen, and
answers, out. It ends with the program, however that ends, and keeps all that was heard until then."""

from __future__ import annotations

import contextlib
import gc
import logging
import os
import pickle
import signal
import sys
import threading
from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, NamedTuple

from common_bench.book.journal import JournalWriter
from common_bench.model.trouble import EngineTrouble, Trouble
from common_bench.record.crash_report import end_watching, watch_for_crashes
from common_bench.record.engine import Engine
from common_bench.record.events import EngineEvent
from common_bench.record.loop import Falls
from common_bench.record.mirror import Teller
from common_bench.record.parcels import NUMBER
from common_bench.record.replay import joined
from common_bench.record.runs import Recorded

BY_ITSELF = 0.25  # s, after which it is told how it stands though nothing has happened
KEPT_WITHIN = 2.0  # s that what is heard may take to be kept where the program has ended
AT_ONCE = 4_000_000  # bytes of runs that have ended, told of at once; then the rest
SWEPT = 10_000, 20, 100  # objects after which those that came last are looked through for what nobody holds, and so on
SWITCHES = 0.0005  # s after which a thread gives way, so that what comes is stamped when it comes
ENGINE, JOURNAL = "engine", "journal"
MOVE, END = "move", "end"

Answer = tuple[int, Any, BaseException | None]
log = logging.getLogger(__name__)


class Order(NamedTuple):
    """Something that an engine or its journal is to do. number: of it; whom: who; name: what, with its arguments."""

    number: int
    whom: str
    name: str
    arguments: tuple[Any, ...] = ()
    more: dict[str, Any] | None = None


class Beginning(NamedTuple):
    """What an engine is to begin with. path: of the book; began: when its clock did; tick: s between two turns of a kit."""

    path: str
    speed: float
    patience: float
    began: float
    tick: float


def serve(pipe: Connection, lock: int | None, begin: Beginning) -> None:
    """In the engine's own process, until the pipe is closed. lock: the file that is held while the book is open, which this process holds
    too; it is let go when both have ended."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # from a keyboard: the program ends this one when it ends
    for each in (signal.SIGTERM, signal.SIGHUP):  # from a system that goes down, or a program that ends in a hurry
        signal.signal(each, _stop)
    sys.setswitchinterval(SWITCHES)
    gc.freeze()
    gc.set_threshold(*SWEPT)
    watch_for_crashes("engine")
    Serving(pipe, begin).serve()


def _stop(*_: object) -> None:
    raise EOFError


class Serving:
    """One engine, and what of it is told."""

    def __init__(self, pipe: Connection, begin: Beginning) -> None:
        self._pipe = pipe
        self._something = threading.Event()
        self._sending = threading.Lock()
        self._answers: deque[Answer] = deque()
        self._events: list[EngineEvent] = []
        self._moves: dict[int, Future[Path]] = {}
        self._teller = Teller(self._something.set)
        self._journal = JournalWriter(Path(begin.path))
        self._engine = Engine(
            self._journal, speed=begin.speed, patience=begin.patience, began=begin.began, watcher=self._teller,
            tick=begin.tick,
        )  # fmt: skip
        root = logging.getLogger()
        root.handlers, root.level = [_ToProgram(self._tell_log)], logging.INFO

    def serve(self) -> None:
        threading.Thread(target=self._tell, name="telling", daemon=True).start()
        try:
            while True:
                self._do(pickle.loads(self._pipe.recv_bytes()))
        except (EOFError, OSError):
            pass
        self._end()

    def _end(self) -> None:
        with contextlib.suppress(EngineTrouble):
            self._journal.close(KEPT_WITHIN)
        end_watching()
        os._exit(0)

    # what is asked of it

    def _do(self, order: Order) -> None:
        if order.whom == END:
            raise EOFError
        if order.whom == MOVE:
            moved = self._moves.pop(order.number)
            if order.name:
                moved.set_result(Path(order.name))
            else:
                moved.set_exception(order.arguments[0])
        elif order.name.startswith("="):
            setattr(self._engine, order.name[1:], order.arguments[0])
        elif order.whom == ENGINE:
            self._answer(order, lambda: getattr(self._engine, order.name)(*order.arguments, **(order.more or {})))
        else:  # which takes as long as the disk does
            act = self._go_on_elsewhere if order.name == "go_on_in" else getattr(self._journal, order.name)
            threading.Thread(target=self._answer, args=(order, lambda: act(*order.arguments)), daemon=True).start()

    def _answer(self, order: Order, act: Callable[[], Any]) -> None:
        given, raised = None, None
        try:
            given = act()
        except EOFError:
            raise
        except BaseException as fault:
            raised = fault if isinstance(fault, Trouble) else EngineTrouble("engine-failed", fault=f"{fault}")
        self._answers.append((order.number, given, raised))
        self._something.set()

    def _go_on_elsewhere(self, within: float, number: int) -> Path:
        moved: Future[Path] = Future()
        self._moves[number] = moved

        def move() -> Path:
            self._send(b"move", pickle.dumps(number))
            return moved.result(within)

        return self._journal.go_on_in(move, within)

    # what is told

    def _tell(self) -> None:
        """A failure in it is put in the log, and all is told again; after too many of them this process ends, so that nobody takes
        what is shown for what is."""
        falls = Falls()
        with contextlib.suppress(OSError):
            while True:
                self._something.wait(BY_ITSELF)
                self._something.clear()
                try:
                    self._tell_once()
                except OSError:
                    raise
                except Exception:
                    log.exception("what the engine tells")
                    if falls.too_many():
                        self._end()

    def _tell_once(self) -> None:
        answers = [self._answers.popleft() for _ in range(len(self._answers))]  # more may come meanwhile
        self._events += self._engine.events()
        some, self._events = _some(self._events)
        if self._events:
            self._something.set()
        journal = self._journal.trouble, self._journal.dropped, self._journal.kept_bytes
        try:
            parcel = self._teller.packed(self._engine.snapshot.trouble, some, answers, journal)
        except BaseException:
            self._events[:0] = some
            self._answers.extendleft(map(_sendable, reversed(answers)))
            raise
        self._send(*parcel)

    def _send(self, *parts: bytes) -> None:
        with self._sending:
            for each in parts:
                self._pipe.send_bytes(each)

    def _tell_log(self, record: logging.LogRecord) -> None:
        with contextlib.suppress(OSError):
            self._send(b"log", pickle.dumps((record.name, record.levelno, record.getMessage(), record.exc_text)))


class _ToProgram(logging.Handler):
    """What is logged goes to the program's log."""

    def __init__(self, tell: Callable[[logging.LogRecord], None]) -> None:
        super().__init__()
        self._tell = tell

    def emit(self, record: logging.LogRecord) -> None:
        self.format(record)  # puts an exception in words
        self._tell(record)


def _sendable(answer: Answer) -> Answer:
    """The same, or that it cannot be sent."""
    try:
        pickle.dumps(answer)
    except Exception as fault:
        return answer[0], None, EngineTrouble("engine-failed", fault=f"{fault}")
    return answer


def _some(events: Sequence[EngineEvent]) -> tuple[list[EngineEvent], list[EngineEvent]]:
    """As many of them as are told at once, with runs as one piece each, and the rest."""
    found, size = list[EngineEvent](), 0
    for at, event in enumerate(events):
        if event.recorded is not None:
            if size > AT_ONCE:
                return found, list(events[at:])
            event = event._replace(recorded=joined(event.recorded))
            size += _size(event.recorded)
        found.append(event)
    return found, []


def _size(recorded: Recorded | None) -> int:
    pieces = recorded.worked if recorded is not None else []
    return sum(NUMBER * len(each.block) * (4 + 3 * len(each.results)) for each in pieces)
