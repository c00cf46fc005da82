"""An ear: one kit as the engine hears it. Holds its link, chain, live window, tape and what is wrong."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from typing import NamedTuple

from common_bench.links.address import SPEEDS, Address
from common_bench.links.causes import trouble
from common_bench.links.link import Link
from common_bench.model.block import Stamped
from common_bench.model.plan import AskPlan
from common_bench.model.run import RunSetting
from common_bench.model.trouble import LinkTrouble
from common_bench.reading.prompts import waiting_for
from common_bench.reading.reader import Heard
from common_bench.record.chain import Chain
from common_bench.record.live import LiveWindow
from common_bench.record.rules import Rule

SILENT_AFTER = 2.0  # s without a byte
SILENT_SPACINGS = 4.0  # usual spacings without a byte
DEAD_AFTER = 4.0  # s after opening without any byte
TAPE_LINES = 400
LEAST_BYTES = 10  # before anything is said about a speed
TRY_SPEED_FOR = 1.0  # s of few bytes, before the next speed is tried all the same
TRY_LINES_FOR = 4.0  # s of whole lines of text that are no readings yet: a slow kit's format takes a few of them
CLEARLY_NOISE = 3  # bytes that are no text, and most of all
TEXT_SHARE = 0.85  # of bytes that are text, below which a speed is wrong
MOST_ROUNDS = 3  # through all speeds
RESTARTS, RESTARTS_WITHIN = 3, 30.0  # so many restarts in so many s are too many
STANDS_AFTER = 1.0  # s that a host lets a connection stand, before it is believed though it says nothing
LOOK_BACK = 6.0  # s over which rate, load and unreadable lines are told
FULL, NEARLY_FULL = 0.95, 0.85  # share of what the speed carries
GARBLED = 0.05  # share of lines that cannot be read
LEAST_LINES = 20  # in LOOK_BACK, before a share of lines is told
HOSTS = ("tcp", "rfc2217", "mqtt")
TEXT_BYTES = bytes(range(32, 127)) + b"\r\n\t"


def is_noise(sample: bytes) -> bool:
    """Whether bytes come from a line whose speed is wrong: few of them are text, or a good many are not."""
    text = sum(1 for each in sample if each in TEXT_BYTES)
    if len(sample) - text >= CLEARLY_NOISE and text < len(sample) / 2:
        return True
    return len(sample) >= LEAST_BYTES and text < TEXT_SHARE * len(sample)


class TapeLine(NamedTuple):
    at: float
    offset: int
    data: bytes
    kind: str

    @property
    def text(self) -> str:
        if self.kind == "unreadable":  # noise may look like any script, and some are written from the right
            return self.data[:200].decode("ascii", "backslashreplace")
        return self.data[:200].decode("utf-8", "backslashreplace")


class Tally(NamedTuple):
    """Totals at s: lines, readings, unreadable lines, bytes."""

    at: float
    lines: int
    readings: int
    unreadable: int
    bytes: int


@dataclass
class RunUnderWay:
    """A run that is being recorded. began, last: s on the engine's clock, nan before the first reading."""

    id: int
    number: int
    rule: Rule
    begin_byte: int
    setting: RunSetting
    began: float = float("nan")
    last: float = float("nan")
    readings: int = 0

    @property
    def seconds(self) -> float:
        return 0.0 if self.began != self.began else self.last - self.began


@dataclass
class Asking:
    """A kit that is asked for each reading: how, when last, and how it answered."""

    plan: AskPlan
    next_at: float = 0.0
    asked_at: float = float("nan")
    answered: int = 0
    missed: int = 0

    @property
    def waits(self) -> bool:
        return self.asked_at == self.asked_at


class Ear:
    """`parent` is the ear that owns the port, where one port relays many kits; it hears for all of them."""

    def __init__(
        self,
        kit: int,
        hearing: int,
        address: Address,
        chain: Chain,
        asked_at: float,
        *,
        settled: bool,
        parent: Ear | None = None,
    ) -> None:
        """settled: the speed is known from an earlier time, or was set by hand; others are not tried."""
        self.kit, self.hearing, self._address, self.chain, self.parent = kit, hearing, address, chain, parent
        self.live = LiveWindow()
        self.tape: deque[TapeLine] = deque(maxlen=TAPE_LINES)
        self.relayed: dict[str, Ear] = {}
        self.run: RunUnderWay | None = None
        self.asking: Asking | None = None
        self.pending: list[Stamped] = []
        self.waiting_bytes = 0
        self.last_heard = self.last_reading = asked_at
        self.opened_at = asked_at
        self.next_try = asked_at
        self.losses = self.failures = 0
        self.away = False  # it was heard, then lost, and has not come back
        self.speed_found = settled or not address.has_speed
        self.warning: LinkTrouble | None = None
        self.restarts: deque[float] = deque(maxlen=RESTARTS)
        self.words: deque[str] = deque(maxlen=8)
        self.told_of: set[str] = set()  # ids on a shared port that were told
        self.speeds_tried = 1
        self._link: Link | None = None
        self._trouble: LinkTrouble | None = None
        self._first_words = ""
        self._clock_restarts = 0
        self._sample = b""
        self._total = self._since_open = self._readable = self._readings = 0
        self._ragged = 0
        self._tallies: deque[Tally] = deque(maxlen=round(LOOK_BACK) + 1)

    def lines(self) -> list[TapeLine]:
        """What is on the tape now, oldest first, safe to look through while the engine goes on writing to it."""
        return list(self.tape)

    @property
    def address(self) -> Address:
        return self.parent.address if self.parent else self._address

    @address.setter
    def address(self, address: Address) -> None:
        self._address = address

    @property
    def link(self) -> Link | None:
        return self.parent.link if self.parent else self._link

    @link.setter
    def link(self, link: Link | None) -> None:
        self._link = link

    @property
    def trouble(self) -> LinkTrouble | None:
        """What keeps it from being used; what only wants to be known is `warning`."""
        return (self.parent.trouble if self.parent else None) or self._trouble

    @trouble.setter
    def trouble(self, found: LinkTrouble | None) -> None:
        self._trouble = found

    @property
    def ready(self) -> bool:
        """Whether a run can begin: open, its format known, and a reading heard since it was opened."""
        known = self.chain.reader.format is not None and self._readings > 0
        return self.link is not None and known and self.trouble is None

    @property
    def heard_since_open(self) -> bool:
        return self._since_open > 0

    @property
    def rate(self) -> float:
        """Lines per second over the last few seconds (readings, where it is one kit of many on a port); nan while too early."""
        return self._per_second("readings" if self.parent else "lines")

    @property
    def load(self) -> float:
        """Share of what the speed can carry; nan where the link has no speed or it is too early."""
        source = self.parent or self
        bits = 2 + int(self.address.setting("bits", "8")) + (self.address.setting("parity", "none") != "none")
        per_second = source._per_second("bytes")
        return per_second * bits / self.address.speed if self.address.has_speed else float("nan")

    def _per_second(self, what: str) -> float:
        if len(self._tallies) < 2 or self._tallies[-1].at <= self._tallies[0].at:
            return float("nan")
        first, last = self._tallies[0], self._tallies[-1]
        return float(getattr(last, what) - getattr(first, what)) / (last.at - first.at)

    @property
    def _unanswered(self) -> bool:
        """Whether a host's trouble lasts though it is called again: a port that opens is there, a host has yet to answer."""
        return self.address.kind in HOSTS and self._trouble is not None and self._trouble.cause not in QUIET_CAUSES

    @property
    def is_back(self) -> bool:
        """Whether a kit that was lost can be used again."""
        return self.away and self.link is not None and (self._trouble is None or self._trouble.cause in QUIET_CAUSES)

    def opened(self, at: float) -> None:
        if self._trouble is not None and self._trouble.cause != "unreadable" and not self._unanswered:
            self._trouble = None
        self.warning = None
        self.opened_at = self.last_heard = self.last_reading = at
        self._since_open = self._readable = self._readings = 0
        self._sample = b""
        self._tallies.clear()
        for each in self.relayed.values():
            each.opened(at)

    def overlook(self, since: float, until: float) -> None:
        """Takes out s in which nobody listened, so that no kit is called silent for them."""
        missed = until - since
        self.last_heard, self.last_reading, self.opened_at = (
            min(until, each + missed) for each in (self.last_heard, self.last_reading, self.opened_at)
        )
        if self.asking is not None and self.asking.waits:
            self.asking.asked_at = min(until, self.asking.asked_at + missed)

    def take(self, heard: Heard, data: bytes, at: float) -> bool:
        """Counts and remembers what came of one feed of `data`. True where the kit has restarted in it."""
        self._since_open += len(data)
        self._total += len(data)
        if not self.speed_found:
            self._sample = (self._sample + data)[-400:]
        good = heard.readings + sum(1 for each in heard.told if each.kind in ("words", "names"))
        self._readable += good
        self._readings += heard.readings
        if good:
            self.failures = 0
        if heard.readings:
            self.last_reading = at
            if self.asking and self.asking.waits:
                self.asking.answered += 1
                self.asking.asked_at = float("nan")
            self.speed_found = True
        elif any(each.kind == "words" and len(each.line) > 3 for each in heard.told):
            self.speed_found = True
        if self._trouble is not None and (
            (self._trouble.cause in QUIET_CAUSES and good) or (self._unanswered and data)
        ):
            self._trouble = None
        self._remember(heard)
        if not self._tallies or at - self._tallies[-1].at >= 1.0:
            reader = self.chain.reader
            self._tallies.append(Tally(at, reader.lines, reader.readings, reader.unreadable, self._total))
        return self._restarted(heard, at)

    def _remember(self, heard: Heard) -> None:
        told = {each.offset: each.kind for each in heard.told}
        for each in heard.told:
            if each.kind in ("words", "names"):
                self.words.append(each.text)
            elif each.kind == "unreadable" and each.line[:1].isdigit() and each.line[-1:].isdigit():
                self._ragged += 1
        if told and self.tape:
            # A line that waited for the format is told late: its place on the tape learns what it was.
            seen = {line.offset: at for at, line in enumerate(self.tape) if line.offset in told}
            for offset, at in seen.items():
                self.tape[at] = self.tape[at]._replace(kind=told[offset])
        own = (
            {int(offset) for block in heard.blocks for offset in block.offset[-TAPE_LINES:].tolist()}
            if self.parent
            else None
        )
        for lines in heard.lines[-3:]:
            tail = lines.part(len(lines) - TAPE_LINES, len(lines)) if len(lines) > TAPE_LINES else lines
            for stamp, offset, line in tail.each():
                kind = told.get(offset, "reading")
                if own is None or kind != "reading" or offset in own:
                    self.tape.append(TapeLine(stamp, offset, line[:200], kind))

    def _restarted(self, heard: Heard, at: float) -> bool:
        """A kit has restarted where its clock begins anew, or its first words come again."""
        again = self.chain.reader.clock.restarts > self._clock_restarts
        self._clock_restarts = self.chain.reader.clock.restarts
        for each in heard.told:
            if each.kind == "words" and len(each.line) > 4:
                if not self._first_words:
                    self._first_words = each.text
                elif each.text == self._first_words and at - self.opened_at > 1.0:
                    again = True
        if again and (not self.restarts or at - self.restarts[-1] > 0.5):
            self.restarts.append(at)
            return True
        return False

    # what is wrong

    def judge(self, at: float) -> Address | None:
        """Says what is wrong with an open link; gives another speed to try where this one cannot be read."""
        if self._unanswered and at - self.opened_at > STANDS_AFTER:
            self._trouble = None
        self._judge_silence(at)
        self.warning = self._warning(at)
        if self.speed_found or self._since_open < CLEARLY_NOISE:
            return None
        wrong = is_noise(self._sample)
        lines = len(self._sample) >= LEAST_BYTES and (b"\n" in self._sample or b"\r" in self._sample)
        if not wrong and (self._readable or at - self.opened_at < (TRY_LINES_FOR if lines else TRY_SPEED_FOR)):
            return None
        self._trouble = trouble("unreadable", self.address.name, share="all")
        if self.speeds_tried >= MOST_ROUNDS * len(SPEEDS):
            return None
        self.speeds_tried += 1
        here = SPEEDS.index(self.address.speed) if self.address.speed in SPEEDS else -1
        return self.address.at(SPEEDS[(here + 1) % len(SPEEDS)])

    def _judge_silence(self, at: float) -> None:
        if self._trouble is not None and self._trouble.cause not in QUIET_CAUSES:
            return
        quiet = at - (self.last_reading if self.parent else self.last_heard)
        spacing = self.chain.reader.clock.spacing
        asked = self.asking.plan.every + self.asking.plan.within if self.asking else 0.0
        limit = max(SILENT_AFTER, SILENT_SPACINGS * spacing if spacing == spacing else 0.0, 2 * asked)
        if quiet <= (limit if self._since_open else max(limit, DEAD_AFTER)):
            return
        seconds = f"{quiet:.0f} s" if quiet < 120 else f"{quiet / 60:.0f} min"
        link = self.address.name
        held = self.chain.reader.cutter.held[:200].decode("utf-8", "replace")
        waiting = waiting_for([*self.words, held]) if self._readings == 0 or self._spoke_last() else None
        if waiting is not None:
            key = waiting.send if waiting.send.strip() else "Enter"
            self._trouble = trouble(waiting.cause, link, words=f"“{waiting.words[:80]}”", key=key, send=waiting.send)
        elif self.sends_on_change:
            self._trouble = None  # it is alive; the warning says that nothing has changed
        elif not self._since_open and self._total == 0:
            self._trouble = trouble("dead", link, seconds=seconds)
        else:
            self._trouble = trouble("silent", link, seconds=seconds)

    def _spoke_last(self) -> bool:
        """Whether the last whole line were words rather than a reading."""
        return bool(self.tape) and self.tape[-1].kind in ("words", "names")

    @property
    def sends_on_change(self) -> bool:
        """Whether its readings come unevenly, as from a kit that sends only what changes."""
        reader = self.chain.reader
        return reader.readings >= LEAST_LINES / 2 and reader.clock.uneven

    def _warning(self, at: float) -> LinkTrouble | None:
        link = self.address.name
        if len(self.restarts) == RESTARTS and at - self.restarts[0] < RESTARTS_WITHIN:
            return trouble("restarting", link, seconds=str(len(self.restarts)))
        if self.load > FULL:
            return trouble("overload", link, speed=str(self.address.speed), share=f"{self.load:.0%}")
        if len(self._tallies) >= 2:
            first, last = self._tallies[0], self._tallies[-1]
            lines, bad = last.lines - first.lines, last.unreadable - first.unreadable
            if lines >= LEAST_LINES and bad > GARBLED * lines:
                cause = "ragged" if self._ragged > bad / 2 else "garbled"
                return trouble(cause, link, share=f"{bad / lines:.0%}")
        quiet = at - self.last_reading
        if self.sends_on_change and quiet > SILENT_AFTER and self.trouble is None:
            return trouble("on-change", link, seconds=f"{quiet:.0f} s")
        return None


QUIET_CAUSES = frozenset(["silent", "dead", "menu", "button", "asked", "unreadable"])
