"""Steering a stand-in class from another process: starting it, hanging masses, making faults."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path
from types import TracebackType
from typing import Any

import msgspec

from common_bench.model.bench import StandInNotice
from common_bench.model.trouble import Trouble

START_LIMIT = 20.0  # s


def order(control: str, **asked: Any) -> dict[str, Any]:
    """Sends one order to a class's control socket and gives its answer. Raises Trouble where it is refused."""
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as line:
            line.settimeout(5)
            line.connect(control)
            line.sendall(json.dumps(asked).encode() + b"\n")
            answer: dict[str, Any] = json.loads(line.makefile().readline() or "{}")
    except (OSError, ValueError) as fault:
        raise Trouble("stand-ins-do-not-answer") from fault
    if not answer.get("ok"):
        raise Trouble("stand-ins-refuse", value=answer.get("why", "no reason given"))
    return answer


class StandInProcess:
    """A stand-in class running in a process of its own, ended when left."""

    def __init__(
        self,
        folder: Path,
        *more: str,
        count: int = 6,
        seed: int = 9,
        world_speed: float = 1.0,
        kit_speed: int = 115_200,
        class_name: str = "swinging-bottles",
    ) -> None:
        """more: further words for `common-bench kits`, as --dialect json."""
        command = [sys.executable, "-m", "common_bench.cli", "kits", "--folder", str(folder), "--count", str(count)]
        command += ["--seed", str(seed), "--speed", str(world_speed), "--kit-speed", str(kit_speed), "--json"]
        command += ["--class", class_name, *more]
        self._process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        self.folder = folder
        self.notice = self._wait()

    def _wait(self) -> StandInNotice:
        path = self.folder / f"class-{self._process.pid}.json"
        deadline = time.monotonic() + START_LIMIT
        while time.monotonic() < deadline and self._process.poll() is None:
            if path.exists():
                return msgspec.json.decode(path.read_bytes(), type=StandInNotice)
            time.sleep(0.02)
        raise Trouble("stand-ins-did-not-start", where=str(self.folder))

    def order(self, **asked: Any) -> dict[str, Any]:
        return order(self.notice.control, **asked)

    def link(self, alias: str) -> str:
        return next(port.link for port in self.notice.ports if port.identity == f"stand-in-{alias}")

    @property
    def process(self) -> int:
        return self._process.pid

    def stop(self) -> None:
        if self._process.poll() is None:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self._process.pid, signal.SIGTERM)
            self._process.wait(10)

    def __enter__(self) -> StandInProcess:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, fault: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()
