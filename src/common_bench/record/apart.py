"""An engine that lives in a process of its own, and its journal, as the lesson holds them: asked like those in this process."""

from __future__ import annotations

import contextlib
import itertools
import logging
import multiprocessing
import pickle
import queue
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future
from concurrent.futures import TimeoutError as NotInTime
from multiprocessing import forkserver
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from multiprocessing.reduction import DupFd
from pathlib import Path
from typing import Any

from common_bench.book.journal import FLUSH_WITHIN, JournalWriter
from common_bench.links.address import Address
from common_bench.links.causes import trouble
from common_bench.model.calibration import Calibration
from common_bench.model.plan import AskPlan
from common_bench.model.run import Ending
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import EngineTrouble, Trouble
from common_bench.record.engine import END_WITHIN, HANGS_AFTER, PATIENCE, Engine
from common_bench.record.events import EngineEvent, EventQueue
from common_bench.record.loop import passing, turns_every
from common_bench.record.mirror import Mirror, Update
from common_bench.record.parcels import Parcel
from common_bench.record.rules import Rule
from common_bench.record.serving import END, ENGINE, JOURNAL, MOVE, Beginning, Order, serve
from common_bench.record.snapshot import Snapshot
from common_bench.workings.evaluate import Workings

THERE_WITHIN = 30.0  # s that a process may take to begin, as the first on a slow machine
ON_THE_WAY = 0.2  # s that an order and its answer may be under way
GONE_WITHIN = 5.0  # s that a process may take to end once nothing is left to keep

log = logging.getLogger(__name__)


def prepare() -> None:
    """Has what engines' processes are made from load all that they need, so that none waits for it."""
    _context()
    forkserver.ensure_running()


def _context() -> Any:
    found = multiprocessing.get_context("forkserver")
    found.set_forkserver_preload(["common_bench.record.ready"])
    return found


class HeldFile:
    """An open file that another process is to hold too, once it is made."""

    def __init__(self, number: int) -> None:
        self._number = number

    def __reduce__(self) -> tuple[Any, ...]:
        return _detached, (DupFd(self._number),)


def _detached(passed: Any) -> int:
    number: int = passed.detach()
    return number


class EngineApart:
    """The same as `Engine`, whose words hold here too. A process that ends is told as an engine that has stopped."""

    def __init__(self, path: Path, lock: int | None, *, speed: float = 1.0, patience: float = PATIENCE) -> None:
        """path: of the book; lock: the file that is held while it is open, which the process holds too."""
        self.speed = speed
        self.turned: Callable[[], bool] = lambda: False  # called in a thread of its own after each turn
        self.journal = JournalApart(self)
        self._patience, self._began = patience, passing()
        self._path, self._lock = path, lock
        self._pipe: Connection
        self._theirs: Connection
        self._pipe, self._theirs = multiprocessing.Pipe()
        self._process: BaseProcess | None = None
        self._mirror = Mirror()
        self._numbers = itertools.count(1)
        self._sending = threading.Lock()
        self._answers: dict[int, Future[Any]] = {}
        self._moves: dict[int, queue.SimpleQueue[bool]] = {}
        self._events = EventQueue()
        self._over = self._ended = self._is_late = False
        self._together: list[Future[Any]] | None = None
        self._reader = threading.Thread(target=self._read, name="engine's window", daemon=True)

    # how it stands

    def now(self) -> float:
        return (passing() - self._began) * self.speed

    @property
    def snapshot(self) -> Snapshot:
        found = self._mirror.snapshot
        if self._over and not self._ended:
            return found.fallen(trouble("engine-stopped", ""))
        if self._ended or found.trouble is not None or not found.turn:
            return found
        silent = self.now() - found.at
        if silent > HANGS_AFTER * self.speed:
            return found.in_trouble(EngineTrouble("engine-hangs", seconds=silent / self.speed))
        return found

    @property
    def has_stopped(self) -> bool:
        """Whether there is no process any more, or none yet that could be asked."""
        return self._over

    @property
    def process(self) -> int:
        """Its number in the system; 0 before it has begun."""
        return (self._process.pid or 0) if self._process is not None else 0

    @property
    def patience(self) -> float:
        return self._patience

    @patience.setter
    def patience(self, seconds: float) -> None:
        self._patience = seconds
        self._send(Order(0, ENGINE, "=patience", (seconds,)))

    def events(self) -> list[EngineEvent]:
        return self._events.take()

    def drawn(self) -> None:
        """Nothing waits for what is drawn."""

    # commands

    def start(self) -> None:
        self._reader.start()
        self.ask("start", within=THERE_WITHIN)

    def stop(self) -> None:
        if not self._over:
            self.ask("stop", within=2 * END_WITHIN)
        self._ended = True

    def hear(
        self, kit: int, session: int, address: Address, workings: Workings, calibrations: Iterable[Calibration] = (),
        format: StreamFormat | None = None, *, settled: bool = False,
    ) -> None:  # fmt: skip
        self._follow("hear", kit, session, address, workings, tuple(calibrations), format, settled=settled)

    def leave(self, kit: int) -> None:
        self._follow("leave", kit)

    def relay(
        self, parent: int, kit: int, id: str, workings: Workings, calibrations: Iterable[Calibration] = ()
    ) -> None:
        self._follow("relay", parent, kit, id, workings, tuple(calibrations))

    def move(self, kit: int, path: str) -> None:
        self._follow("move", kit, path)

    def set_address(self, kit: int, address: Address) -> None:
        self._follow("set_address", kit, address)

    def restart(self, kit: int) -> None:
        self.ask("restart", kit)

    def read_as(self, kit: int, format: StreamFormat) -> None:
        self._follow("read_as", kit, format)

    def ask_kit(self, kit: int, plan: AskPlan | None) -> None:
        self._follow("ask_kit", kit, plan)

    def calibrate(self, kit: int, calibrations: Iterable[Calibration]) -> None:
        self._follow("calibrate", kit, tuple(calibrations))

    def work(self, workings: Workings) -> None:
        self._follow("work", workings)

    def begin_runs(self, asked: Sequence[tuple[int, int, int]], rule: Rule) -> Future[dict[int, Trouble]]:
        return self.order(ENGINE, "begin_runs_now", list(asked), rule)

    def end_runs(self, kits: Iterable[int], ending: Ending) -> Future[None]:
        return self.order(ENGINE, "end_runs_now", list(kits), ending)

    def resume_runs(self, ended: Sequence[tuple[int, int]]) -> Future[dict[int, Trouble]]:
        return self.order(ENGINE, "resume_runs_now", list(ended))

    def send(self, kit: int, data: bytes) -> None:
        self.ask("send", kit, data)

    # orders and their answers

    def ask(self, name: str, *arguments: Any, within: float = 0.0, **more: Any) -> Any:
        """Has the engine do something and gives its answer. Raises what it raises, or EngineTrouble where none has come within s or `patience`."""
        within = max(within, self._patience)
        answer = self.order(ENGINE, name, *arguments, **more)
        try:
            return answer.result(within + ON_THE_WAY)
        except NotInTime:
            raise EngineTrouble("engine-busy", within=within) from None

    def _follow(self, name: str, *arguments: Any, **more: Any) -> None:
        """What is done now or as soon as it can be; its engine tells what it raises later."""
        answer = self.order(ENGINE, name, *arguments, **more)
        if self._together is not None:
            self._together.append(answer)
            return
        self._wait_for([answer])

    @contextlib.contextmanager
    def together(self) -> Iterator[None]:
        """Commands that bring the engine in step are sent at once within it, and waited for as one, `patience` at most for all;
        where the engine is later than that, it is told, and they are done as soon as it can."""
        if self._together is not None:
            yield
            return
        answers = self._together = list[Future[Any]]()
        try:
            yield
        finally:
            self._together = None
        self._wait_for(answers)

    def _wait_for(self, answers: Sequence[Future[Any]]) -> None:
        until = time.monotonic() + self._patience
        try:
            for answer in answers:
                answer.result(max(0.0, until - time.monotonic()))
        except NotInTime:
            if not self._is_late:
                self._is_late = True  # once, until it has caught up
                self._events.tell(EngineEvent("failed", trouble=EngineTrouble("engine-follows-later")))
                self._events.publish()
            answers[-1].add_done_callback(lambda _: setattr(self, "_is_late", False))

    def order(self, whom: str, name: str, *arguments: Any, **more: Any) -> Future[Any]:
        """Has something done; the answer is there once it is."""
        answer: Future[Any] = Future()
        number = next(self._numbers)
        self._answers[number] = answer
        self._send(Order(number, whom, name, arguments, more))
        if self._over:
            self._fail_all()
        return answer

    def _send(self, order: Order) -> None:
        with self._sending, contextlib.suppress(OSError):  # closed: the reader says so
            self._pipe.send_bytes(pickle.dumps(order, pickle.HIGHEST_PROTOCOL))

    def go_on_in(self, move: Callable[[], Path], within: float) -> Path:
        """The journal's: this process moves the book, between two transactions of the other."""
        number = next(self._numbers)
        asked = self._moves[number] = queue.SimpleQueue()
        answer = self.order(JOURNAL, "go_on_in", within, number)
        answer.add_done_callback(lambda _: asked.put(False))
        try:
            goes = asked.get(timeout=within + ON_THE_WAY)
        except queue.Empty:
            self._moves.pop(number, None)
            raise EngineTrouble("journal-late", within=within) from None
        if goes:
            try:
                path = move()
            except BaseException as fault:
                told = fault if isinstance(fault, Trouble) else EngineTrouble("engine-failed", fault=fault)
                self._send(Order(number, MOVE, "", (told,)))
                with contextlib.suppress(Trouble, NotInTime):
                    answer.result(within)
                raise
            self._send(Order(number, MOVE, str(path)))
        try:
            found: Path = answer.result(within + ON_THE_WAY)
        except NotInTime:
            raise EngineTrouble("journal-late", within=within) from None
        return found

    def end(self) -> None:
        """All is kept: lets the process go."""
        self._ended = True
        self._send(Order(0, END, ""))
        self._reader.join(GONE_WITHIN)
        if self._process is not None:
            if self._reader.is_alive():
                self._process.kill()  # it stands still, and has nothing left to do
            self._process.join(GONE_WITHIN)
        self._pipe.close()

    # in the thread that reads

    def _read(self) -> None:
        try:
            self._begin()
            while True:
                self._take(self._pipe.recv_bytes())
        except (EOFError, OSError):
            pass
        except Exception:
            log.exception("what an engine's process told")
        self._over = True
        self._fail_all()

    def _begin(self) -> None:
        begin = Beginning(str(self._path), self.speed, self._patience, self._began, turns_every(apart=True))
        lock = HeldFile(self._lock) if self._lock is not None else None
        process = _context().Process(target=serve, args=(self._theirs, lock, begin), daemon=True)
        try:
            process.start()
            self._process = process
        finally:
            self._theirs.close()

    def _take(self, first: bytes) -> None:
        second = self._pipe.recv_bytes()
        if first == b"move":
            if (asked := self._moves.pop(pickle.loads(second), None)) is not None:  # else it was given up
                asked.put(True)
        elif first == b"log":
            name, level, told, fault = pickle.loads(second)
            logging.getLogger(name).log(level, "%s", told if not fault else f"{told}\n{fault}")
        else:
            self._show(self._mirror.take(Parcel(first, second)))

    def _show(self, told: Update) -> None:
        self.journal.stands = told.journal
        for event in told.events:
            self._events.tell(event)
        self._events.publish()
        for number, given, raised in told.answers:
            answer = self._answers.pop(number, None)
            if answer is None or not answer.set_running_or_notify_cancel():
                continue
            if raised is not None:
                answer.set_exception(raised)
            else:
                answer.set_result(given)
        self.turned()

    def _fail_all(self) -> None:
        for number in list(self._answers):
            with contextlib.suppress(Exception):
                self._answers.pop(number).set_exception(trouble("engine-stopped", ""))


class JournalApart:
    """The journal of an engine that lives in a process of its own, as far as the program asks for it."""

    def __init__(self, engine: EngineApart) -> None:
        self._engine = engine
        self.stands: tuple[Trouble | None, int, int] = None, 0, 0  # as it was told last
        self._closed = False

    @property
    def trouble(self) -> Trouble | None:
        return EngineTrouble("journal-stopped") if self._engine.has_stopped and not self._closed else self.stands[0]

    @property
    def dropped(self) -> int:
        """Bytes that were lost, since they could neither be kept nor held."""
        return self.stands[1]

    @property
    def kept_bytes(self) -> int:
        return self.stands[2]

    def flush(self, within: float = FLUSH_WITHIN) -> None:
        try:
            self._engine.order(JOURNAL, "flush", within).result(within + ON_THE_WAY)
        except NotInTime:
            raise EngineTrouble("journal-late", within=within) from None

    def go_on_in(self, move: Callable[[], Path], within: float = FLUSH_WITHIN) -> Path:
        return self._engine.go_on_in(move, within)

    def close(self, within: float | None = None) -> None:
        """Keeps all that was put, and lets the engine's process go. Raises as the journal does, and the process goes on then."""
        if not self._engine.has_stopped:
            try:
                self._engine.order(JOURNAL, "close", within).result(None if within is None else within + ON_THE_WAY)
            except NotInTime:
                raise EngineTrouble("journal-late", within=within) from None
        self._closed = True
        self._engine.end()


AnyEngine = Engine | EngineApart
AnyJournal = JournalWriter | JournalApart


def engine_apart(path: Path, lock: int | None, *, speed: float, patience: float) -> AnyEngine:
    """In a process of its own, which has begun; in this one where none can be made, as where memory is short. path, lock: as of
    EngineApart."""
    made = EngineApart(path, lock, speed=speed, patience=patience)
    try:
        made.start()
    except Trouble as fault:
        log.warning("no process for the engine: %s", fault)
        made.end()
    else:
        return made
    here = Engine(JournalWriter(path), speed=speed, patience=patience)
    here.start()
    return here
