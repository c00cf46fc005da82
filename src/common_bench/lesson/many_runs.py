"""Many runs worked up anew: by this thread where they are few or short, by processes of their own, one for each core, where they
are long, so that the window has its own. Runs with what they would have in; what became of each out, in the same order."""

from __future__ import annotations

import logging
import os
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from functools import cache
from multiprocessing import get_context
from pathlib import Path

from common_bench.book.book import Book
from common_bench.lesson.worked_runs import Reworked, reworked_run
from common_bench.model.run import Finding, Run, RunSetting

WORTH_PROCESSES = 4_000_000  # bytes of all runs, from which it is worth the second or two in which processes begin
LEAST_RUNS = 4  # fewer are no work to share
PARENT_LOOK = 1.0  # s between two looks whether the program is still there
LOOK = 0.1  # s between two looks whether it is to stop
BEHIND = 5  # of a process's urgency: the window and what is recorded come first

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Again:
    """A run with the setting that it would have, and its findings of now by name."""

    run: Run
    setting: RunSetting
    before: Mapping[str, Finding]

    @property
    def bytes(self) -> int:
        """How many it was computed from."""
        return max(0, (self.run.end or 0) - (self.run.begin or 0))


@dataclass(frozen=True)
class ByPlan:
    """What the plan says of all of them: channel -> unit of its quantity, the findings that it wants, how spans are found."""

    channels: Mapping[str, str]
    wanted: tuple[str, ...]
    used: str
    names: tuple[str, ...] = ()  # of the findings to be worked out, those that a run has where there are none


def reworked_all(
    book: Book,
    asked: Sequence[Again],
    plan: ByPlan,
    stop: threading.Event,
    done: Callable[[int], object] = lambda _: None,
) -> list[Reworked]:
    """In a worker's thread. done: told after each how many are finished. Those that were not reached before it was to stop
    are left out."""
    found: dict[int, Reworked] = {}
    if len(asked) >= LEAST_RUNS and (os.cpu_count() or 1) > 1 and sum(each.bytes for each in asked) >= WORTH_PROCESSES:
        try:
            _by_processes(book.path, asked, plan, stop, found, done)
        except (BrokenProcessPool, OSError) as fault:  # as where memory is short: what is left is done here, one by one
            log.warning("processes that work up runs ended: %s", fault)
    for place, each in enumerate(asked):
        if stop.is_set():
            break
        if place not in found:
            found[place] = _one(book, each, plan)
            done(len(found))
    return [found[place] for place in sorted(found)]


def _one(book: Book, each: Again, plan: ByPlan) -> Reworked:
    return reworked_run(
        book, each.run, each.setting, dict(each.before), dict(plan.channels), plan.wanted, plan.names, plan.used
    )


def _by_processes(
    path: Path, asked: Sequence[Again], plan: ByPlan, stop: threading.Event, found: dict[int, Reworked],
    done: Callable[[int], object],
) -> None:  # fmt: skip
    """Longest first, so that none is left over for one process alone at the end."""
    order = sorted(range(len(asked)), key=lambda place: -asked[place].bytes)
    cores = min(os.cpu_count() or 1, len(asked))
    workers = ProcessPoolExecutor(cores, get_context("spawn"))
    try:
        open_: dict[Future[Reworked], int] = {
            workers.submit(_in_process, str(path), asked[place], plan): place for place in order
        }
        while open_ and not stop.is_set():
            for each in wait(open_, LOOK, FIRST_COMPLETED).done:
                if not stop.is_set():
                    found[open_.pop(each)] = each.result()
                    done(len(found))
    finally:
        workers.shutdown(wait=False, cancel_futures=True)


@cache
def _opened(path: str) -> Book:
    """In a process that works up runs, once; it ends with the program, however that ends."""
    os.nice(BEHIND)
    threading.Thread(target=_end_with, args=(os.getppid(),), daemon=True).start()
    return Book.open(Path(path), readonly=True)


def _in_process(path: str, each: Again, plan: ByPlan) -> Reworked:
    return _one(_opened(path), each, plan)


def _end_with(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(PARENT_LOOK)
    os._exit(1)
