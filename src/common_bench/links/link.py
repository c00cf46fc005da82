"""What every link is to the engine: something to wait on, read from, write to and close."""

from __future__ import annotations

import contextlib
import socket
import threading
import time
from typing import Protocol

from common_bench.links.address import Address
from common_bench.links.causes import trouble
from common_bench.model.trouble import LinkTrouble

MOST_AT_ONCE = 65_536  # bytes per read
HELD_BACK = 0.5  # s for which a sender is held back, before that is told
MOST_PER_SECOND = 2_000_000  # bytes; far more than any kit sends, so that a hostile host cannot fill the disk


class Link(Protocol):
    """`read` never waits and raises nothing but LinkTrouble, so that one bad link cannot stop the other kits."""

    address: Address

    def fileno(self) -> int: ...

    def read(self) -> bytes: ...

    def write(self, data: bytes) -> None: ...

    def restart(self) -> None: ...

    def close(self) -> None: ...


class Throttle:
    """Lets no more than MOST_PER_SECOND bytes through, by waiting."""

    def __init__(self) -> None:
        self._began, self._bytes = time.monotonic(), 0
        self._held_from = self._held_last = 0.0  # when senders began to be held back, and were last; 0: never

    def count(self, size: int) -> bool:
        """Counts bytes that came; whether the sender has had to be held back for more than a moment."""
        self._bytes += size
        at = time.monotonic()
        ahead = self._bytes / MOST_PER_SECOND - (at - self._began)
        if at - self._held_last > 1.0:
            self._held_from = 0.0
        if ahead > 0:
            self._held_from, self._held_last = self._held_from or at, at
            time.sleep(min(ahead, 1.0))
        elif ahead < -1:
            self._began, self._bytes = time.monotonic(), 0
        return self._held_from > 0.0 and at - self._held_from > HELD_BACK


class PumpedLink:
    """A link whose bytes come through a thread of its own and a pair of sockets.

    Connecting and waiting happen in that thread, so that the engine never waits for a host. The pair
    holds little: a host that sends more than is read has to wait, and can fill nothing.
    """

    def __init__(self, address: Address) -> None:
        self.address = address
        self.fault: LinkTrouble | None = None
        self.warning: LinkTrouble | None = None  # what wants to be known, though bytes come
        self.connected = False
        self._ours, self._theirs = socket.socketpair()
        self._ours.setblocking(False)
        self._closed = threading.Event()
        self._thread = threading.Thread(target=self._run, name=f"link {address.name}", daemon=True)
        self._thread.start()

    def _run(self) -> None:
        try:
            self._pump()
        except LinkTrouble as fault:
            self.fault = fault
        except OSError as failed:
            self.fault = trouble("no-host", self.address.name, why=failed.strerror or str(failed))
        except Exception as failed:  # whatever a library raises is a reason why the host cannot be used
            self.fault = trouble("no-host", self.address.name, why=str(failed)[:80] or type(failed).__name__)
        finally:
            with contextlib.suppress(OSError):
                self._theirs.shutdown(socket.SHUT_RDWR)

    def _tell_flood(self, held_back: bool) -> None:
        """Says that more comes than is let through, for as long as it does."""
        if held_back:
            self.warning = trouble("flood", self.address.name, most=f"{MOST_PER_SECOND / 1e6:g}")
        elif self.warning is not None and self.warning.code == "flood":
            self.warning = None

    def _pump(self) -> None:
        """Connects, then passes on what comes until closed; raises LinkTrouble or OSError."""
        raise LinkTrouble("link-without-pump")

    def _pass_on(self, data: bytes) -> None:
        """To the engine; waits while it has not read what came before."""
        self._theirs.sendall(data)

    def fileno(self) -> int:
        return self._ours.fileno()

    def read(self) -> bytes:
        try:
            data = self._ours.recv(MOST_AT_ONCE)
        except BlockingIOError:
            return b""
        except OSError as failed:
            raise trouble("lost", self.address.name) from failed
        if not data:
            raise self.fault or trouble("ended", self.address.name)
        return data

    def write(self, data: bytes) -> None:
        raise trouble("no-way-back", self.address.name)

    def restart(self) -> None:
        raise trouble("no-restart", self.address.name)

    def close(self) -> None:
        self._closed.set()
        for end in (self._ours, self._theirs):
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)
        self._ours.close()
