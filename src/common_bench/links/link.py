"""What every link is to the engine: something to wait on, read from, write to and close."""

from __future__ import annotations

import contextlib
import socket
import threading
from typing import Protocol

from common_bench.links.address import Address
from common_bench.links.causes import trouble
from common_bench.model.trouble import LinkTrouble

MOST_AT_ONCE = 65_536  # bytes per read
MOST_PER_SECOND = 2_000_000  # bytes; far more than any kit sends, so that a hostile host cannot fill the disk


class Link(Protocol):
    """`read` never waits and raises nothing but LinkTrouble, so that one bad link cannot stop the other kits."""

    address: Address

    def fileno(self) -> int: ...

    def read(self) -> bytes: ...

    def write(self, data: bytes) -> None: ...

    def restart(self) -> None: ...

    def close(self) -> None: ...


class PumpedLink:
    """A link whose bytes come through a thread of its own and a pair of sockets.

    Connecting and waiting happen in that thread, so that the engine never waits for a host. The pair
    holds little: a host that sends more than is read has to wait, and can fill nothing.
    """

    def __init__(self, address: Address) -> None:
        self.address = address
        self.fault: LinkTrouble | None = None
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
