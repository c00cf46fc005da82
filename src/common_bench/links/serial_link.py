"""A serial port through pyserial: bytes as they come, without waiting."""

from __future__ import annotations

import contextlib
import errno
import select
import time
from pathlib import Path
from typing import Any

import serial

from common_bench.links.address import Address
from common_bench.links.causes import trouble
from common_bench.links.discovery import holder_of, what_is_wrong
from common_bench.links.link import MOST_AT_ONCE
from common_bench.links.quick_read import QuickReader

RESET_FOR = 0.1  # s that the reset line is held


def serial_settings(address: Address) -> dict[str, Any]:
    """The settings of an address as pyserial takes them."""
    flow = address.setting("flow", "none")
    return {
        "baudrate": address.speed,
        "bytesize": int(address.setting("bits", "8")),
        "parity": address.setting("parity", "none")[0].upper(),
        "stopbits": float(address.setting("stop", "1")),
        "rtscts": flow == "hardware",
        "xonxoff": flow == "software",
    }


class SerialLink:
    """An open port, held so that no other program can take it while we read.

    `read` never waits and never raises anything but LinkTrouble, so that one bad cable cannot stop
    the other kits.
    """

    def __init__(self, address: Address) -> None:
        """Opens the port. Raises LinkTrouble with its cause."""
        self.address = address
        fault = what_is_wrong(address.path)
        if fault is not None:
            raise fault
        path = Path(address.path)
        try:
            self._port = serial.Serial(
                address.path, timeout=0, write_timeout=0.2, exclusive=True, **serial_settings(address)
            )
            self._reader = QuickReader(self._port.fileno(), MOST_AT_ONCE)
        except (serial.SerialException, OSError, ValueError) as failed:
            code = getattr(failed, "errno", None)
            if code in (errno.EACCES, errno.EPERM):
                from common_bench.links.discovery import permission_command

                raise trouble("not-allowed", address.path, command=permission_command(path)) from failed
            if code == errno.ENOENT:
                raise trouble("missing", address.path) from failed
            if isinstance(failed, ValueError):
                raise trouble("speed", address.path, speed=str(address.speed)) from failed
            if code in (errno.EAGAIN, errno.EBUSY) or "lock" in str(failed):
                raise trouble("taken", address.path, holder=holder_of(path)) from failed
            if code in (errno.EIO, errno.ENODEV, errno.ENXIO):
                raise trouble("lost", address.path) from failed
            raise trouble("no-port", address.path) from failed

    def fileno(self) -> int:
        return int(self._port.fileno())

    def read(self) -> bytes:
        """What has come; empty where nothing has. Raises LinkTrouble where the port has gone."""
        try:
            self._port.fileno()  # which raises where it has been closed
            data = self._reader.read()
        except (BlockingIOError, InterruptedError):
            return b""
        except (OSError, serial.SerialException, TypeError) as failed:
            raise trouble("lost", self.address.path) from failed
        if not data and self._hung_up():
            raise trouble("lost", self.address.path)
        return data

    def _hung_up(self) -> bool:
        """A port without bytes reads as empty, and so does one that has gone: only the second hangs up."""
        poller = select.poll()
        poller.register(self._port.fileno(), select.POLLIN)
        return any(events & (select.POLLHUP | select.POLLERR | select.POLLNVAL) for _, events in poller.poll(0))

    def write(self, data: bytes) -> None:
        try:
            self._port.write(data)
        except (serial.SerialException, OSError) as failed:
            raise trouble("lost", self.address.path) from failed

    def restart(self) -> None:
        """Pulls the line that restarts most kits. Raises LinkTrouble where the port has none."""
        try:
            self._port.dtr = False
            time.sleep(RESET_FOR)
            self._port.dtr = True
        except (serial.SerialException, OSError) as failed:
            raise trouble("no-restart", self.address.path) from failed

    def close(self) -> None:
        with contextlib.suppress(serial.SerialException, OSError):
            self._port.close()
