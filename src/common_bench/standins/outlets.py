"""Where a stand-in kit can be heard: a pseudo-terminal, a TCP port, a serial port behind RFC 2217, a broker's topic."""

from __future__ import annotations

import contextlib
import os
import random
import select
import socket
import subprocess
import sys
import termios
import threading
import tty
from pathlib import Path
from typing import Any

from common_bench.standins.kit import StandInKit

SPEEDS = {
    getattr(termios, f"B{speed}"): speed
    for speed in (2_400, 4_800, 9_600, 19_200, 38_400, 57_600, 115_200, 230_400, 460_800, 921_600)
}
MOST_WAITING = 1 << 21  # bytes held back for a reader that is too slow, then dropped as a real line would
RAN_BEFORE = 30.0  # world s for which a kit that runs on has run when it is first opened
BITS = 10  # of a byte on a line: start, eight, stop


class Outlet:
    """A kit with its way out. `serve` sends what is due up to a world time; `plugged` is False while the cable is out."""

    link = ""

    def __init__(self, kit: StandInKit, speed: int, seed: int) -> None:
        self.kit, self.speed = kit, speed
        self.plugged = True
        self.overloaded = False
        self.sent = 0  # lines that have gone out since it was opened
        self._dice = random.Random(f"line {seed}/{kit.bench.alias}")
        self._served = 0.0
        self._backlog, self._room = b"", 0.0

    def plug(self) -> None:
        self.plugged = True

    def unplug(self) -> None:
        self.plugged = False

    def serve(self, world: float) -> None: ...

    def close(self) -> None:
        self.unplug()

    def due(self, world: float) -> bytes:
        """What the kit sends until world time, no more than its line carries: the rest is lost in the middle of lines."""
        data = self.kit.until(world)
        if self.overloaded:
            # Eight times its usual lines; what the line cannot carry is lost in the middle of them.
            self._backlog = (self._backlog + data * 8)[-4096:]
            self._room += (world - self._served) * self.speed / BITS
            room = int(self._room)
            data, self._backlog = self._backlog[:room], self._backlog[room:]
            self._room = min(self._room - len(data), float(self.speed))
        self._served = world
        return data


class TerminalOutlet(Outlet):
    """The master side of a pseudo-terminal and the path that programs open."""

    def __init__(self, kit: StandInKit, folder: Path, name: str, speed: int, seed: int) -> None:
        super().__init__(kit, speed, seed)
        self._folder, self._name, self._plugs = folder, name, 0
        self.master = -1
        self._open = self._reset = self._ran = self._inside_a_line = False
        self._unsent = b""
        self._holder: subprocess.Popen[bytes] | None = None
        self.plug()

    @property
    def path(self) -> Path:
        return self._folder / (self._name if self._plugs == 0 else f"{self._name}-{self._plugs}")

    def plug(self) -> None:
        if self.master >= 0:
            return
        self.master, other = os.openpty()
        tty.setraw(other)
        os.set_blocking(self.master, False)
        name = os.ttyname(other)
        os.close(other)
        self.path.unlink(missing_ok=True)
        self.path.symlink_to(name)
        self.link = str(self.path)
        self._open, self._unsent, self.plugged = False, b"", True

    def unplug(self) -> None:
        self.free()
        if self.master >= 0:
            os.close(self.master)
            self.master = -1
            self.path.unlink(missing_ok=True)
        self.plugged = False

    def replug(self) -> None:
        self.unplug()
        self._plugs += 1
        self.plug()

    def take(self) -> None:
        """Another program opens the port and keeps it."""
        code = f"import serial, time; port = serial.Serial({self.link!r}, exclusive=True); print(1, flush=True); time.sleep(600)"
        self.free()
        self._holder = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)

    def free(self) -> None:
        if self._holder is not None:
            self._holder.kill()
            self._holder.wait()
            self._holder = None

    def _join(self, world: float) -> None:
        """A kit that runs on is heard from the middle of a line on; what it sent before nobody has heard."""
        if not self._ran:
            self.kit.restart(world - RAN_BEFORE)
        self.kit.until(world)
        self._ran = self._inside_a_line = True

    def serve(self, world: float) -> None:
        """Sends what is due, as long as somebody has the port open and set to the kit's own speed."""
        poller = select.poll()
        poller.register(self.master, select.POLLIN)
        events = dict(poller.poll(0)).get(self.master, 0)
        if events & select.POLLHUP:
            self._open, self._unsent = False, b""
            return
        heard = b""
        if events & select.POLLIN:
            with contextlib.suppress(OSError):
                heard = os.read(self.master, 4096)
        if not self._open or self._reset:
            ran = self.kit.gate == "running" and not self._reset
            self._open, self._served, self._reset, self.sent = True, world, False, 0
            if not ran:
                self.kit.restart(world)
            else:
                self._join(world)
        data = self.due(world)
        if self._inside_a_line and data:
            data = data[self._dice.randrange(1, max(2, data.find(self.kit.speech.end) + 1)) :]
            self._inside_a_line = False
        if SPEEDS.get(termios.tcgetattr(self.master)[4]) != self.speed:
            data = bytes(self._dice.randrange(256) | 0x80 for _ in range(len(data) // 3 + 1)) if data else b""
        elif heard:
            self.kit.hear(heard)
        self._unsent = (self._unsent + data)[:MOST_WAITING]
        while self._unsent:
            try:
                sent = os.write(self.master, self._unsent[:4096])
            except OSError:
                break
            self.sent += self._unsent[:sent].count(self.kit.speech.end)
            self._unsent = self._unsent[sent:]


class SocketOutlet(Outlet):
    """Listens on a TCP port of this machine; the first caller hears the kit from its start."""

    def __init__(self, kit: StandInKit, speed: int, seed: int) -> None:
        super().__init__(kit, speed, seed)
        self.port = 0
        self.plug()
        self.link = f"tcp://127.0.0.1:{self.port}"
        self._callers: list[socket.socket] = []

    def plug(self) -> None:
        """Listens, on the same port each time."""
        if self.port and self.plugged:
            return
        self._server = socket.create_server(("127.0.0.1", self.port))
        self._server.setblocking(False)
        self.port = self._server.getsockname()[1]
        self.plugged = True

    def unplug(self) -> None:
        """Ends every call, and answers no other."""
        self.plugged = False
        self._server.close()
        for caller in self._callers:
            caller.close()
        self._callers.clear()

    def serve(self, world: float) -> None:
        with contextlib.suppress(BlockingIOError):
            caller, _ = self._server.accept()
            caller.settimeout(0.5)
            if not self._callers:
                self.kit.restart(world)
                self._served = world
            self._callers.append(caller)
        data = self.due(world) if self._callers else b""
        for caller in list(self._callers):
            try:
                if select.select([caller], [], [], 0)[0]:
                    heard = caller.recv(4096)
                    if not heard:
                        raise OSError
                    self.kit.hear(heard)
                if data:
                    caller.sendall(data)
            except OSError:
                caller.close()
                self._callers.remove(caller)


class RemoteTerminalOutlet(TerminalOutlet):
    """A pseudo-terminal that is served by RFC 2217 on a TCP port: callers set its speed from afar."""

    def __init__(self, kit: StandInKit, folder: Path, name: str, speed: int, seed: int) -> None:
        super().__init__(kit, folder, name, speed, seed)
        self._server = socket.create_server(("127.0.0.1", 0))
        self.link = f"rfc2217://127.0.0.1:{self._server.getsockname()[1]}"
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            try:
                caller, _ = self._server.accept()
            except OSError:
                return
            with caller, contextlib.suppress(Exception):  # a caller that goes in the middle ends its own service
                self._redirect(caller)

    def _redirect(self, caller: socket.socket) -> None:
        import serial
        from serial.rfc2217 import PortManager

        class Out:
            def write(self, data: bytes) -> None:
                caller.sendall(data)

        class Port(serial.Serial):  # type: ignore[misc]
            """A pseudo-terminal has no modem lines: the ones that matter here are played."""

            cts = dsr = ri = cd = property(lambda _: False)

            def _update_dtr_state(port) -> None:
                self._reset = True  # the line that restarts most kits

            def _update_rts_state(self) -> None: ...

        with Port(str(self.path), 9_600, timeout=0.02) as port:
            manager = PortManager(port, Out())
            caller.settimeout(0.02)
            while True:
                data = port.read(4096)
                if data:
                    caller.sendall(b"".join(manager.escape(data)))
                with contextlib.suppress(TimeoutError):
                    heard = caller.recv(4096)
                    if not heard:
                        return
                    back = b"".join(manager.filter(heard))
                    if back:
                        port.write(back)

    def close(self) -> None:
        self._server.close()
        self.unplug()


class TopicOutlet(Outlet):
    """Publishes each line at a topic of a broker; `TOPIC/to` is what can be sent to the kit."""

    def __init__(self, kit: StandInKit, broker: str, speed: int, seed: int) -> None:
        import paho.mqtt.client as mqtt

        super().__init__(kit, speed, seed)
        place, _, base = broker.removeprefix("mqtt://").partition("/")
        host, _, port = place.partition(":")
        self.topic = f"{base or 'bench'}/{kit.bench.alias.lower()}"
        self.link = f"mqtt://{place}/{self.topic}?send={self.topic}/to"
        self._started = False
        self._client: Any = mqtt.Client(mqtt.CallbackAPIVersion.VERSION2)
        self._client.on_message = lambda _c, _u, message: kit.hear(message.payload)
        self._client.on_connect = lambda client, *_: client.subscribe(f"{self.topic}/to")
        self._client.connect(host, int(port or 1883))
        self._client.loop_start()

    def serve(self, world: float) -> None:
        if not self._started:
            self._started = True
            self.kit.restart(world)
        for line in self.due(world).splitlines():
            self._client.publish(self.topic, line)

    def close(self) -> None:
        self.plugged = False
        self._client.disconnect()
        self._client.loop_stop()
