"""What kits send that are plugged in while no lesson is open: each port is heard for a few seconds and let go again.

Nothing is kept of it. The shelf makes a plan of it, or says that kits are there.
"""

from __future__ import annotations

import select
import threading
import time
from collections.abc import Sequence

from common_bench.lesson.listening import opened_at_its_speed
from common_bench.links.address import read_address
from common_bench.model.bench import Port
from common_bench.model.block import Stamped
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import Trouble
from common_bench.reading.reader import Reader

LISTENS_FOR = 6.0  # s at most to a port
SETTLES = 1.0  # s that it is heard on once its lines are understood, as names may come late
WAIT = 0.1  # s


class Scout:
    """Guarantees that it holds no port once `stop` has returned, so that a lesson can open them."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._heard: dict[str, StreamFormat | None] = {}
        self._threads: dict[str, threading.Thread] = {}
        self._going = True

    def look(self, ports: Sequence[Port]) -> None:
        """Listens to those that are new, each in a thread of its own; forgets those that have gone."""
        there = {port.identity for port in ports}
        with self._lock:
            for gone in set(self._heard) - there:
                self._heard.pop(gone)
                self._threads.pop(gone, None)
            for port in ports:
                if self._going and port.identity not in self._threads:
                    thread = threading.Thread(target=self._hear, args=(port,), name=f"scout {port.name}", daemon=True)
                    self._threads[port.identity] = thread
                    thread.start()

    @property
    def is_listening(self) -> bool:
        with self._lock:
            return any(thread.is_alive() for thread in self._threads.values())

    @property
    def formats(self) -> list[StreamFormat]:
        """How the lines of each kit that was understood are read."""
        with self._lock:
            return [each for each in self._heard.values() if each is not None]

    def stop(self) -> None:
        """Lets all ports go."""
        self._going = False
        for thread in list(self._threads.values()):
            thread.join(LISTENS_FOR)

    def _hear(self, port: Port) -> None:
        try:
            found = self._format_of(port)
        except Trouble:
            found = None  # what is wrong with a port is told in Plug in
        with self._lock:
            self._heard[port.identity] = found

    def _format_of(self, port: Port) -> StreamFormat | None:
        began = time.monotonic()
        link, seen = opened_at_its_speed(read_address(port.link))
        reader = Reader(paced=link.address.paced)
        try:
            known = began if seen and self._fed(reader, began, seen) else None
            while self._going and time.monotonic() - began < LISTENS_FOR:
                ready, _, _ = select.select([link], [], [], WAIT)
                data = link.read() if ready else b""
                if data and self._fed(reader, began, data) and known is None:
                    known = time.monotonic()
                if known is not None and time.monotonic() - known > SETTLES:
                    break
        finally:
            link.close()
        return reader.format

    @staticmethod
    def _fed(reader: Reader, began: float, data: bytes) -> bool:
        reader.feed([Stamped(time.monotonic() - began, data)])
        return reader.format is not None and reader.format.is_sure


def heard_words(formats: Sequence[StreamFormat]) -> str:
    """`they send ms load temp`, of kits that send alike; what the first sends where they differ."""
    if not formats:
        return ""
    columns = [" ".join(column.name for column in format.columns) for format in formats]
    return columns[0] if len(set(columns)) == 1 else f"{columns[0]}, and others"
