"""Reading what a port holds just now. A file descriptor that does not wait in, bytes out.

`os.read` lets other threads run while it reads, and has to wait for its turn again afterwards: beside a window that paints, a
quarter of a millisecond for each of some thousand lines a second, where the reading itself takes a few microseconds. So it is
called here without giving the turn away; nothing is lost by that, since it never waits.
"""

from __future__ import annotations

import ctypes
import os

_read = ctypes.PyDLL(None, use_errno=True).read
_read.argtypes = (ctypes.c_int, ctypes.c_void_p, ctypes.c_size_t)
_read.restype = ctypes.c_ssize_t


class QuickReader:
    """Guarantees that a read never waits: what it reads from is set so that it does not."""

    def __init__(self, descriptor: int, most: int) -> None:
        """most: bytes per read."""
        os.set_blocking(descriptor, False)
        self.descriptor, self._most = descriptor, most
        self._buffer = ctypes.create_string_buffer(most)

    def read(self) -> bytes:
        """What has come; empty at the end. Raises BlockingIOError where nothing has, OSError where it cannot be read."""
        count = _read(self.descriptor, self._buffer, self._most)
        if count < 0:
            fault = ctypes.get_errno()
            raise OSError(fault, os.strerror(fault))  # the kind of it follows from its number
        return ctypes.string_at(self._buffer, count)
