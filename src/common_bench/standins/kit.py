"""Stand-in kits: microcontrollers with a sensor, seen from their lines. World time in, bytes out."""

from __future__ import annotations

import math
import random
from abc import ABC, abstractmethod

from common_bench.standins.dialects import SPEECHES, Sensed, Speech
from common_bench.standins.world import StandInBench

RATE = 50  # lines per second of the kit's own clock
MOST_UNSEEN = 60.0  # s that what the sensor sees goes on while nobody hears the kit; what lies longer back is forgotten
START_UP = 0.3  # s from a restart to the first line
RESTART_EVERY = 4.0  # s, for a kit whose power is too weak
BURST = 0.8  # s of lines that a stalling line sends at once
NOISE_BYTES = bytes(range(128, 256))
FULL_SCALE = 4095  # counts of a converter, for a floating input


class StandInKit(ABC):
    """Sends words, names and then rows in its dialect from the moment it is opened (which restarts it).

    Seeded: the same seed and the same orders at the same times give the same bytes. `gate` is what
    it waits for before it sends: nothing, its button, a key in a menu, or a request for each reading.
    What its sensor is and what can be held to it is told by the kinds of kit below.
    """

    hello = b"kit v1"
    word = "load"  # what its channel is called

    def __init__(
        self,
        bench: StandInBench,
        seed: int,
        *,
        dialect: str = "semicolons",
        rate: float = RATE,
        gate: str = "",
    ) -> None:
        self.bench, self.rate, self.gate = bench, rate, gate
        self.speech = self.spoken_in(dialect)
        self._dice = random.Random(f"{seed}/{bench.alias}")
        self._world = 0.0
        self._next = math.inf
        self._started = 0.0
        self._row = 0
        self._waiting: list[bytes] = []
        self._held: list[bytes] = []
        self._typed = b""
        self._frozen: int | None = None
        self.hung = "nothing"
        self.start_up = START_UP
        self.lamp = False
        self.silent = self.noisy = self.gated = False
        self.weak = self.halves = self.bursts = False
        self.rubbish = ""  # what comes in the place of its lines
        self.drift = 0.0  # relative, on top of the kit's own
        self.clock_from = 0.0  # ms that the clock shows at a restart
        self.sensor = ""  # hum50, hum60, stuck, saturated, floating

    def spoken_in(self, dialect: str) -> Speech:
        """How it speaks in a dialect: with the word for its own channel."""
        return SPEECHES[dialect].of(self.word)

    def restart(self, at: float) -> None:
        """As when the kit is opened or its reset button is pressed, at world time `at` in s."""
        self._started = at + self.start_up
        self._row = 0
        self._next = self._started
        self._held.clear()
        self.gated = self.gate not in ("", "running")
        asks = {
            "button": [b"Press the button to start."],
            "menu": [b"[s] start measuring", b"[h] help", b"your choice?"],
            "asked": [b"send ? for a reading"],
        }.get(self.gate, [])
        names = [] if self.gated and self.gate != "asked" else list(self.speech.start)
        self._waiting = [line + self.speech.end for line in [self.hello, *asks, *names]]

    @abstractmethod
    def hang(self, what: str) -> None:
        """Holds something to the sensor. Raises ValueError where it cannot be held."""

    @abstractmethod
    def _follow(self, h: float) -> None:
        """The sensor after h more s."""

    @abstractmethod
    def _shown(self) -> float:
        """What the converter gives now, in counts, before rounding."""

    def send(self, data: bytes) -> None:
        """Puts bytes on the line before the next row (for faults)."""
        self._waiting.append(data)

    def press_button(self) -> None:
        if self.gate == "button":
            self._begin()

    def hear(self, data: bytes) -> None:
        """What is sent to the kit: a key in its menu, a request, or a command as `L1`."""
        if self.gated and self.gate == "menu" and b"s" in data:
            self._begin()
            return
        if self.gate == "asked":
            self._typed += data
            asked = self._typed.count(b"?")
            self._typed = b""
            self._waiting += [self._line() for _ in range(min(asked, 5))]
            return
        for command, on in ((b"L1", True), (b"L0", False)):
            if command in data:
                self.lamp = on
                self.send(b"lamp " + (b"on" if on else b"off") + self.speech.end)

    def _begin(self) -> None:
        self.gated = False
        self._waiting += [line + self.speech.end for line in self.speech.start]

    def until(self, world: float) -> bytes:
        """The bytes that are sent up to world time in s."""
        out: list[bytes] = []
        while self._next <= world:
            self._move(self._next)
            if self.weak and self._next - self._started > RESTART_EVERY:
                self.restart(self._next)
                continue
            if self._waiting:
                out += self._waiting
                self._waiting = []
            if not self.gated and not self.silent and self.gate != "asked":
                out += self._spoken(self._line())
            self._row += 1
            self._next = self._row_at()
        return b"".join(out)

    def _row_at(self) -> float:
        """World time of the next row. The kit counts its own milliseconds; its second is a little longer or shorter than
        ours."""
        return self._started + self._row / self.rate / (1 + self.bench.clock_error + self.drift)

    def _spoken(self, line: bytes) -> list[bytes]:
        """The line as it goes out: whole, damaged, or held back for a burst."""
        if self.rubbish:
            return [self._rubbish(line)]
        if self.halves and self._dice.random() < 0.1:
            line = line[self._dice.randrange(1, max(2, len(line) - 1)) :]
        if not self.bursts:
            return [line]
        self._held.append(line)
        if len(self._held) < BURST * self.rate:
            return []
        held, self._held = self._held, []
        return held

    def _rubbish(self, line: bytes) -> bytes:
        """What comes in the place of a line: bytes of a wrong speed, the same without ends of lines, words that go on and on, or
        mostly torn lines."""
        if self.rubbish == "wrong speed":
            return bytes(self._dice.choices(range(128, 256), k=len(line) - 1)) + b"\n"
        if self.rubbish == "endless":
            return bytes(self._dice.choices(range(128, 255), k=len(line)))
        if self.rubbish == "letters":
            return bytes(self._dice.choices(b"#@!%&?<>{}~^", k=len(line) - 1)) + b"\n"
        return (
            line if self._dice.random() < 0.2 else bytes(self._dice.choices(range(128, 256), k=len(line) - 1)) + b"\n"
        )

    def _move(self, world: float) -> None:
        left = max(0.0, min(world - self._world, MOST_UNSEEN))
        self._world = world
        while left > 1e-9:
            h = min(left, 0.01)
            self._follow(h)
            left -= h

    def _counts(self) -> int:
        counts = round(self._shown() + self._dice.gauss(0.0, self.bench.noise))
        if self.sensor.startswith("hum"):
            counts += round(4000 * math.sin(2 * math.pi * float(self.sensor[3:]) * self._world))
        elif self.sensor == "stuck":
            self._frozen = counts if self._frozen is None else self._frozen
            counts = self._frozen
        elif self.sensor == "saturated":
            counts = 2**23 - 1 if self._dice.random() < 0.9 else 2**23 - 2000
        elif self.sensor == "floating":
            counts = self._dice.randrange(FULL_SCALE // 4, FULL_SCALE)
        if self.sensor != "stuck":
            self._frozen = None
        return counts

    def _line(self) -> bytes:
        temp = 21.4 + 0.3 * math.sin(self._world / 900) + self._dice.gauss(0.0, 0.03)
        hum = 40 + 3 * math.sin(self._world / 60)
        ms = (self._row * 1000 / self.rate + self.clock_from) % 2**32
        sensed = Sensed(ms, self._counts(), temp, hum, self._row % 100 < 50, self._row)
        line = self.speech.line(sensed)
        if not line:
            return b""
        line += self.speech.end
        if self.noisy and self._dice.random() < 0.01:
            at = self._dice.randrange(len(line) - 2)
            line = line[:at] + bytes(self._dice.choices(NOISE_BYTES, k=2)) + line[at + 2 :]
        return line
