"""Links over the network: a line stream on TCP, a serial port behind RFC 2217, topics of an MQTT broker."""

from __future__ import annotations

import contextlib
import queue
import socket
import time
from typing import Any

from common_bench.links.address import Address
from common_bench.links.causes import trouble
from common_bench.links.link import PumpedLink, Throttle
from common_bench.links.serial_link import serial_settings
from common_bench.model.trouble import LinkTrouble

CONNECT_WITHIN = 5.0  # s
LOOK = 0.2  # s
MOST_UNREAD_BYTES = 65_536  # of a port behind RFC 2217
MOST_PAYLOAD = 65_536  # bytes of one message
NOT_ALLOWED = (4, 5, 134, 135)  # what brokers answer to a wrong or missing password (MQTT 3.1.1, 3.2.2.3; 5.0, 3.2.2.2)
MOST_UNREAD = 256  # messages of a broker that wait to be passed on


class TcpLink(PumpedLink):
    """Lines from a host and port that listens."""

    _line: socket.socket | None = None

    def _pump(self) -> None:
        throttle = Throttle()
        with socket.create_connection((self.address.host, self.address.port), CONNECT_WITHIN) as line:
            line.settimeout(LOOK)
            self._line, self.connected = line, True
            while not self._closed.is_set():
                try:
                    data = line.recv(65_536)
                except TimeoutError:
                    continue
                if not data:
                    raise trouble("ended", self.address.name)
                self._pass_on(data)
                self._tell_flood(throttle.count(len(data)))

    def write(self, data: bytes) -> None:
        try:
            if self._line is None:
                raise trouble("not-connected", self.address.name)
            self._line.sendall(data)
        except OSError as failed:
            raise trouble("lost", self.address.name) from failed


class RemoteSerialLink(PumpedLink):
    """A serial port that another machine serves by RFC 2217, with its speed set from here."""

    _port: Any = None

    def _pump(self) -> None:
        import serial
        from serial import rfc2217

        try:
            place = f"rfc2217://{self.address.host_text}:{self.address.port}"
            port = rfc2217.Serial(None, timeout=LOOK, **serial_settings(self.address))
            port.port = place
            port.open()
        except (serial.SerialException, OSError, ValueError, NotImplementedError) as failed:
            raise trouble("no-host", self.address.name, why=str(failed)[:80]) from failed
        self._port, self.connected = port, True
        port._read_buffer.maxsize = MOST_UNREAD_BYTES  # its own thread fills it, and would without end
        throttle = Throttle()
        try:
            while not self._closed.is_set():
                data = port.read(max(1, min(65_536, port.in_waiting)))
                if data:
                    self._pass_on(data)
                    self._tell_flood(throttle.count(len(data)))
                elif not port.is_open or port._thread is None or not port._thread.is_alive():
                    raise trouble("ended", self.address.name)
        except serial.SerialException as failed:
            raise trouble("ended", self.address.name) from failed
        finally:
            with port._read_buffer.mutex:  # its thread may wait for room, and could not end
                port._read_buffer.maxsize = 0
                port._read_buffer.not_full.notify_all()
            with contextlib.suppress(Exception):  # the far end may have gone already
                port.close()

    def write(self, data: bytes) -> None:
        import serial

        if self._port is None:
            raise trouble("not-connected", self.address.name)
        try:
            self._port.write(data)
        except (serial.SerialException, OSError) as failed:
            raise trouble("lost", self.address.name) from failed

    def restart(self) -> None:
        if self._port is None:
            raise trouble("not-connected", self.address.name)
        self._port.dtr = False
        time.sleep(0.1)
        self._port.dtr = True


class BrokerLink(PumpedLink):
    """Messages of a topic, each a line or several. With + or # in the topic, what stands there tells
    kits apart: each line then begins with `@LEVEL` and a tab."""

    _client: Any = None

    def _pump(self) -> None:
        import paho.mqtt.client as mqtt

        five = self.address.setting("version", "3.1.1") == "5"
        client = mqtt.Client(
            mqtt.CallbackAPIVersion.VERSION2,
            protocol=mqtt.MQTTv5 if five else mqtt.MQTTv311,
            reconnect_on_failure=False,
        )
        if self.address.setting("user"):
            client.username_pw_set(self.address.setting("user"), self.address.setting("password"))
        waiting: queue.Queue[bytes] = queue.Queue(MOST_UNREAD)
        refused: list[LinkTrouble] = []
        topic = self.address.path
        before = wildcard_place(topic)

        def connected(_: Any, __: Any, ___: Any, reason: Any, ____: Any) -> None:
            if reason.is_failure:
                cause = "password-wanted" if reason.value in NOT_ALLOWED else "no-host"
                refused.append(trouble(cause, self.address.name, why=str(reason)))
            else:
                client.subscribe(topic, qos=0)
                self.connected = True

        def came(_: Any, __: Any, message: Any) -> None:
            if len(message.payload) > MOST_PAYLOAD:
                self.warning = trouble(
                    "payload-too-large", self.address.name, size=str(len(message.payload)), most=str(MOST_PAYLOAD)
                )
                return
            try:
                waiting.put(lines_of(message.topic, message.payload, before), timeout=LOOK)
            except queue.Full:
                self._tell_flood(True)

        def gone(*_: Any) -> None:
            refused.append(trouble("no-host", self.address.name, why="the broker ended the connection"))

        client.on_connect, client.on_message, client.on_disconnect = connected, came, gone
        client.connect(self.address.host, self.address.port, keepalive=10)
        self._client = client
        client.loop_start()
        throttle = Throttle()
        try:
            while not self._closed.is_set():
                try:
                    data = waiting.get(timeout=LOOK)
                except queue.Empty:
                    if refused:
                        raise refused[0] from None
                    continue
                self._pass_on(data)
                self._tell_flood(throttle.count(len(data)))
        finally:
            while not waiting.empty():
                waiting.get_nowait()
            client.disconnect()
            client.loop_stop()

    def write(self, data: bytes) -> None:
        topic = self.address.setting("send")
        if self._client is None:
            raise trouble("not-connected", self.address.name)
        if not topic:
            raise trouble("no-topic-back", self.address.name)
        self._client.publish(topic, data.rstrip(b"\r\n"))


def wildcard_place(topic: str) -> int | None:
    """Which level of a topic the first + or # stands for; None where there is none."""
    return next((place for place, level in enumerate(topic.split("/")) if level in ("+", "#")), None)


def lines_of(topic: str, payload: bytes, wildcard: int | None) -> bytes:
    """A message as lines, each with the id that its topic names where a wildcard asked for it."""
    front = b""
    if wildcard is not None:
        levels = topic.split("/")
        level = levels[wildcard] if wildcard < len(levels) else ""
        front = b"@" + (level.replace("\t", "_").replace(" ", "_") or "kit").encode()[:40] + b"\t"
    return b"".join(front + line + b"\n" for line in payload.splitlines() if line.strip())


def network_link(address: Address) -> PumpedLink:
    """A link to a socket, a serial port behind one, or a broker; it is reached in a thread of its own."""
    return {"tcp": TcpLink, "rfc2217": RemoteSerialLink, "mqtt": BrokerLink}[address.kind](address)
