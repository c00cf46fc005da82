"""A class of stand-in kits in a process of its own: each at its outlet, steered over a control socket.

The control channel is a Unix socket in the ports folder. One JSON object a line in, one out:
`{"kits": ["Basalt"] or "all", "hang": "nothing" | "100 g" | "bottle" | "40 °C"}`,
`{"kits": …, "fault": NAME}` with a name from FAULTS, or `{"ask": "state"}`.
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import signal
import socket
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec

from common_bench.model.bench import Port, StandInNotice
from common_bench.standins.faults import FAULTS, KIT
from common_bench.standins.outlets import Outlet, RemoteTerminalOutlet, SocketOutlet, TerminalOutlet, TopicOutlet
from common_bench.standins.world import MAIN, world_of

TICK = 0.004  # s between two times that kits are served, as many times that as their world is faster than ours
LONGEST_TICK = 0.016  # s: what many a serial adapter holds back as well
OVER = ("serial", "tcp", "rfc2217", "mqtt")


class StandInClass:
    """Serves until `stop`. Its notice in the folder makes the kits found like real ones; it is gone when it ends."""

    def __init__(
        self,
        folder: Path,
        *,
        count: int = 6,
        seed: int = 9,
        world_speed: float = 1.0,
        speed: int = 115_200,
        dialects: Sequence[str] = ("semicolons",),
        rate: float = 0.0,
        gates: Sequence[str] = ("",),
        faults: Sequence[str] = (),
        over: str = "serial",
        broker: str = "",
        class_name: str = MAIN,
    ) -> None:
        """dialects and gates are given to the kits in turn; faults to all; over: one of OVER."""
        self.folder = folder
        self.world_speed = world_speed
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        mark = f"{os.getpid()}"
        self.kits: dict[str, Outlet] = {}
        self.class_name = class_name
        self.world_kind = world_of(class_name)
        self.benches = {bench.alias: bench for bench in self.world_kind.benches(count, seed)}
        for place, bench in enumerate(self.benches.values()):
            how: dict[str, Any] = {
                "dialect": dialects[place % len(dialects)], "rate": rate or self.world_kind.rate, "gate": gates[place % len(gates)],
            }  # fmt: skip
            kit = self.world_kind.kit(bench, seed, **how)
            kit.start_up *= max(
                1.0, world_speed
            )  # opening a port takes its time in our world, however fast theirs runs
            name = f"{bench.alias.lower()}-{mark}"
            if over == "tcp":
                self.kits[bench.alias] = SocketOutlet(kit, speed, seed)
            elif over == "rfc2217":
                self.kits[bench.alias] = RemoteTerminalOutlet(kit, folder, name, speed, seed)
            elif over == "mqtt":
                self.kits[bench.alias] = TopicOutlet(kit, broker, speed, seed)
            else:
                self.kits[bench.alias] = TerminalOutlet(kit, folder, name, speed, seed)
        self._notice = folder / f"class-{mark}.json"
        self._control_path = folder / f"control-{mark}.sock"
        self._control = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        self._control.bind(str(self._control_path))
        self._control.listen(4)
        self._control.setblocking(False)
        self._callers: dict[socket.socket, bytes] = {}
        self._began = time.monotonic()
        self._going = True
        for name in faults:
            for alias in self.kits:
                self._fault(alias, name)
        self._announce()

    @property
    def ports(self) -> tuple[Port, ...]:
        return tuple(
            Port(each.link, f"stand-in {place}", f"stand-in-{alias}", f"stand-in kit of {alias}", stand_in=True, speed=each.speed)
            for place, (alias, each) in enumerate(self.kits.items(), 1)
            if each.plugged
        )  # fmt: skip

    def truth_of(self, alias: str) -> dict[str, Any]:
        """What no program that measures can see of a bench."""
        bench = self.benches[alias]
        return {"stated": dict(bench.stated), "true": dict(bench.true), "trouble": bench.trouble or None}

    @property
    def truth(self) -> dict[str, Any]:
        """What a class finds that measures without fault."""
        found = self.world_kind.truth(list(self.benches.values()))
        return {"name": found.name, "value": found.value, "unit": found.unit}

    def _announce(self) -> None:
        notice = StandInNotice(os.getpid(), str(self._control_path), self.ports, self.class_name, self.world_speed)
        fresh = self._notice.with_suffix(".new")
        fresh.write_bytes(msgspec.json.encode(notice))
        fresh.replace(self._notice)

    def world(self) -> float:
        """World time in s since the class began."""
        return (time.monotonic() - self._began) * self.world_speed

    def stop(self, *_: object) -> None:
        self._going = False

    def serve(self) -> None:
        signal.signal(signal.SIGTERM, self.stop)
        signal.signal(signal.SIGINT, self.stop)
        parent, tick = os.getppid(), min(LONGEST_TICK, TICK * max(1.0, self.world_speed))
        try:
            while self._going and os.getppid() == parent:
                started = time.monotonic()
                world = self.world()
                for kit in self.kits.values():
                    if kit.plugged:
                        kit.serve(world)
                self._hear_orders(max(0.0, tick - (time.monotonic() - started)))
        finally:
            self._leave()

    def _leave(self) -> None:
        for kit in self.kits.values():
            kit.close()
        self._notice.unlink(missing_ok=True)
        self._control_path.unlink(missing_ok=True)

    def _hear_orders(self, wait: float) -> None:
        ready, _, _ = select.select([self._control, *self._callers], [], [], wait)
        for source in ready:
            if source is self._control:
                caller, _ = self._control.accept()
                self._callers[caller] = b""
                continue
            try:
                data = source.recv(65_536)
            except OSError:
                data = b""
            if not data:
                self._callers.pop(source)
                source.close()
                continue
            *orders, rest = (self._callers[source] + data).split(b"\n")
            self._callers[source] = rest[-65_536:]
            for order in orders:
                with contextlib.suppress(OSError):
                    source.sendall(json.dumps(self._obey(order)).encode() + b"\n")

    def _obey(self, order: bytes) -> dict[str, Any]:
        try:
            asked = json.loads(order)
            if asked.get("ask") == "state":
                state = {alias: each.kit.hung for alias, each in self.kits.items()}
                lamps = {alias: each.kit.lamp for alias, each in self.kits.items()}
                sent = {alias: each.sent for alias, each in self.kits.items()}
                return {"ok": True, "world": self.world(), "hung": state, "lamps": lamps, "sent": sent}
            names = list(self.kits) if asked.get("kits", "all") == "all" else asked["kits"]
            unknown = [name for name in names if name not in self.kits]
            if unknown:
                raise ValueError(f"there is no kit “{unknown[0]}”; there are {', '.join(self.kits)}")
            for name in names:
                if "hang" in asked:
                    self.kits[name].kit.hang(str(asked["hang"]))
                elif asked.get("fault") in FAULTS:
                    self._fault(name, asked["fault"])
                else:
                    raise ValueError(f"say what to hang, or one of these faults: {', '.join(FAULTS)}")
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as fault:
            return {"ok": False, "why": str(fault)}
        return {"ok": True}

    def _fault(self, alias: str, name: str) -> None:
        outlet = self.kits[alias]
        if name in KIT:
            KIT[name][1](outlet.kit)
        elif name == "restart":
            outlet.kit.restart(self.world())
        elif name in ("overload", "no overload"):
            outlet.overloaded = name == "overload"
        elif name in ("replug", "taken", "free"):
            if not isinstance(outlet, TerminalOutlet):
                raise ValueError(f"“{name}” needs a kit on a serial port")
            {"replug": outlet.replug, "taken": outlet.take, "free": outlet.free}[name]()
        else:
            outlet.unplug() if name == "unplug" else outlet.plug()
        if name in ("plug", "unplug", "replug"):
            self._announce()
