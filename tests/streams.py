"""Streams as students' kits send them, composed from parts, each with what must be read from it.

separator × wrapping × names × form of number × clock × ids × kinds of line × signal × rate × odd lines. Each part is
one entry; a family is how they are put together. Some families and parts are kept aside: nothing was tuned on them.
"""

from __future__ import annotations

import json
import math
import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from common_bench.model.stream import StreamFormat
from common_bench.reading.dialects import line_reader

Signal = Callable[[random.Random, int, float], list[float]]
"""(dice, values, per second) -> values about 0, in units of the sensor's own noise."""


def still(dice: random.Random, count: int, rate: float) -> list[float]:
    return [0.0] * count


def noise(dice: random.Random, count: int, rate: float) -> list[float]:
    wide = dice.uniform(1, 5)
    return [dice.gauss(0, wide) for _ in range(count)]


def walk(dice: random.Random, count: int, rate: float) -> list[float]:
    at, found = 0.0, []
    for _ in range(count):
        at += dice.gauss(0, 1.5)
        found.append(at)
    return found


def ramp(dice: random.Random, count: int, rate: float) -> list[float]:
    steep = dice.choice([-1, 1]) * dice.uniform(0.3, 12)
    wide = dice.choice([0.0, 0.5, 2.0])
    return [steep * at + dice.gauss(0, wide) for at in range(count)]


def settling(dice: random.Random, count: int, rate: float) -> list[float]:
    high, tau = dice.choice([-1, 1]) * dice.uniform(50, 400), dice.uniform(1, 6) * rate
    return [high * math.exp(-at / tau) + dice.gauss(0, 0.7) for at in range(count)]


def sine(dice: random.Random, count: int, rate: float) -> list[float]:
    high, period = dice.uniform(20, 300), dice.choice([rate * dice.uniform(1, 6), dice.uniform(2.5, 9)])
    return [high * math.sin(2 * math.pi * at / period) + dice.gauss(0, 1) for at in range(count)]


def steps(dice: random.Random, count: int, rate: float) -> list[float]:
    at, found = 0.0, []
    for _ in range(count):
        if dice.random() < 0.03:
            at = dice.uniform(-200, 200)
        found.append(at + dice.gauss(0, 0.8))
    return found


def spikes(dice: random.Random, count: int, rate: float) -> list[float]:
    return [dice.gauss(0, 1.5) + (dice.uniform(100, 400) if dice.random() < 0.03 else 0) for _ in range(count)]


def saturated(dice: random.Random, count: int, rate: float) -> list[float]:
    return [min(30.0, 60 * math.sin(at / 9) + dice.gauss(0, 2)) for at in range(count)]


def unplugged(dice: random.Random, count: int, rate: float) -> list[float]:
    begin = dice.randrange(count)
    return [dice.gauss(0, 2) if at < begin else 1e9 for at in range(count)]


SIGNALS: tuple[Signal, ...] = (still, noise, walk, ramp, settling, sine, steps, spikes, saturated, unplugged)


@dataclass
class Form:
    """How one quantity is written: a name, a unit, a middle, how large its noise is, and how a value is put in text."""

    name: str
    unit: str
    middle: float
    scale: float
    decimals: int
    low: float
    high: float

    def values(self, signal: Signal, dice: random.Random, count: int, rate: float) -> list[float]:
        offset = dice.uniform(0.8, 1.2) * self.middle
        return [
            round(min(self.high, max(self.low, offset + self.scale * each)), self.decimals)
            for each in signal(dice, count, rate)
        ]


FORMS = (
    Form("light", "lx", 430, 1, 0, 0, 1023), Form("sound", "", 2100, 3, 0, 0, 4095), Form("load", "counts", 271_000, 40, 0, 0, 2**24 - 1),
    Form("temp", "C", 21.4, 0.06, 1, -55, 125), Form("temp", "C", 21.4, 0.02, 2, -55, 125), Form("volt", "V", 2.6, 0.004, 3, 0, 5),
    Form("hum", "%", 44, 0.3, 0, 0, 100), Form("pressure", "hPa", 1013.2, 0.1, 1, 300, 1100), Form("tilt", "deg", -3.0, 0.4, 1, -90, 90),
    Form("accel", "m/s2", 0.02, 0.01, 2, -20, 20), Form("dist", "cm", 52.0, 0.3, 1, 0, 400), Form("raw", "", 9, 0.6, 0, 0, 255),
    Form("flow", "", 9.9, 0.05, 1, 0, 60),
)  # fmt: skip


@dataclass
class Truth:
    """What a line says: its channels' values in order (nan for "no value", a word for one of several), its clock, its kit; None: no reading."""

    values: tuple[float | str, ...]
    clock: float | None = None
    kit: str = ""


@dataclass
class Stream:
    """lines: (s of arrival, text, what it says); tick: s of one unit of the clock, 0 where there is none; names: of
    the channels, where the lines tell them."""

    family: str
    about: str
    lines: list[tuple[float, bytes, Truth | None]]
    tick: float = 0.0
    names: tuple[str, ...] = ()
    asks: bool = False  # two readings are equally likely, and it should be asked
    made_of: dict[str, str] = field(default_factory=dict)

    @property
    def data(self) -> bytes:
        return b"".join(line + b"\n" for _, line, _ in self.lines)


def wrong_in(format: StreamFormat | None, stream: Stream, last: int = 30, heard: int | None = None) -> str:
    """What a format reads wrongly in the last lines of a stream, or of its first `heard` lines; "" where nothing is."""
    if format is None:
        return "no format"
    read = line_reader(format)
    rows = [(line, truth) for _, line, truth in stream.lines[:heard] if truth is not None][-last:]
    ticks = [column.tick for column in format.columns if column.role == "clock"]
    if stream.tick and (not ticks or abs(ticks[0] / stream.tick - 1) > 0.005):
        return f"the clock is {ticks} rather than {stream.tick}"
    if not stream.tick and ticks:
        return f"a clock of {ticks} where there is none"
    words: dict[str, float] = {}  # each word has a number of its own, whichever
    for line, truth in rows:
        found = read(line)
        if found is None or len(found) != 1:
            return f"{line!r} is not read"
        values = [v for v, c in zip(found[0].values, format.columns, strict=True) if c.role == "channel"]
        there, wanted = [v for v in values if v == v], [v for v in truth.values if v == v]
        if len(there) == len(wanted):
            wanted = [words.setdefault(w, v) if isinstance(w, str) else w for w, v in zip(wanted, there, strict=True)]
        if format.dialect in ("named", "json"):  # the order of names is as they came
            there, wanted = sorted(there), sorted(wanted)
        if there != wanted or len(set(words.values())) < len(words):
            return f"{line!r} gives {there} rather than {wanted}"
        if truth.kit != found[0].kit:
            return f"{line!r} is of kit {found[0].kit!r} rather than {truth.kit!r}"
    channels = [column.name for column in format.columns if column.role == "channel"]
    if stream.names and not set(stream.names) <= set(channels):
        return f"the names are {channels} rather than {stream.names}"
    return ""


# clocks: (how a time in s is written, s of one unit)


def _counted(tick: float, decimals: int = 0, wrap: float = 0.0) -> Callable[[float], str]:
    def write(seconds: float) -> str:
        count = seconds / tick
        return f"{count % wrap if wrap else count:.{decimals}f}"

    return write


def _date(seconds: float) -> str:
    whole = int(seconds)
    return f"2026-11-24 {10 + whole // 3600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}.{int(seconds % 1 * 100):02d}"


def _of_day(seconds: float) -> str:
    whole = int(seconds)
    return f"{10 + whole // 3600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}.{int(seconds % 1 * 10):01d}"


CLOCKS: dict[str, tuple[Callable[[float], str], float, tuple[str, ...]]] = {
    "ms": (_counted(1e-3), 1e-3, ("ms", "t_ms", "time (ms)", "t", "time")),
    "µs": (_counted(1e-6), 1e-6, ("us", "micros", "t", "t (us)")),
    "s with two decimals": (_counted(1.0, 2), 1.0, ("s", "t", "time", "time (s)")),
    "s with three decimals": (_counted(1.0, 3), 1.0, ("t/s", "t", "seconds")),
    "ms that wrap at 2^16": (_counted(1e-3, 0, 65536), 1e-3, ("ms", "t")),
    "ticks of 62.5 ms": (_counted(0.0625), 0.0625, ("ticks", "tick")),
    "ns": (_counted(1e-9), 1e-9, ("ns", "t")),
    "date": (_date, 1.0, ("time", "date")),
    "time of day": (_of_day, 1.0, ("time", "clock")),
}
GREETINGS = (
    "balance kit 2.1",
    "ready",
    "sensor kit, version 3 (c) us",
    "press x to stop",
    "----------",
    "Init ok",
    "calibrating... done",
)
ODD = ("test 7", "overflow!", "retry 3", "battery low", "hello", "button pressed 2 times")


class Maker:
    """Makes one stream by throwing dice over the parts."""

    def __init__(self, seed: int, *, aside: bool = False) -> None:
        self.dice = random.Random(seed * 7919 + 13 + (5 if aside else 0))
        self.aside = aside
        dice = self.dice
        self.rate = dice.choice([4.0, 10.0, 20.0, 50.0, 100.0])
        self.count = max(60, int(12.5 * self.rate))
        self.late = dice.choice([0.0005, 0.004, 0.016])
        self.about: dict[str, str] = {}

    def forms(self, count: int) -> list[Form]:
        chosen: list[Form] = []
        while len(chosen) < count:
            form = self.dice.choice(FORMS)
            if form.name not in {each.name for each in chosen}:
                chosen.append(form)
        return chosen

    def values(self, forms: list[Form], rate: float | None = None, count: int | None = None) -> list[list[float]]:
        signals = [self.dice.choice(SIGNALS) for _ in forms]
        self.about["signals"] = " ".join(signal.__name__ for signal in signals)
        return [
            f.values(s, self.dice, count or self.count, rate or self.rate) for f, s in zip(forms, signals, strict=True)
        ]

    def times(self) -> list[float]:
        """When each line is sent, by the kit's own loop."""
        even = self.dice.random() < 0.6
        step, at, found = 1 / self.rate, self.dice.uniform(0.5, 900), []
        for _ in range(self.count):
            at += step if even else step * self.dice.uniform(0.97, 1.06)
            found.append(at)
        return found

    def arrivals(self, times: list[float]) -> list[float]:
        """When each is heard: what a bus gathers comes together."""
        found, last = [], 0.0
        drift = 1 + self.dice.uniform(-3e-4, 3e-4)
        for at in times:
            heard = (at - times[0]) * drift + 1.0
            heard = (
                math.ceil(heard / self.late) * self.late
                if self.late > 0.001
                else heard + self.dice.expovariate(1 / self.late)
            )
            last = max(last, heard)
            found.append(last)
        return found

    def written(self, value: float, form: Form, *, comma: bool = False, shortest: bool = False) -> str:
        text = f"{value:.{form.decimals}f}"
        if shortest and "." in text:
            text = text.rstrip("0").rstrip(".")
        return text.replace(".", ",") if comma else text

    def odd_lines(self, lines: list[tuple[float, bytes, Truth | None]]) -> list[tuple[float, bytes, Truth | None]]:
        dice = self.dice
        found = list(lines)
        if dice.random() < 0.35:
            head = [(lines[0][0] - 0.02, dice.choice(GREETINGS).encode(), None) for _ in range(dice.randint(1, 3))]
            found = [*head, *found]
        if dice.random() < 0.3:
            every = dice.choice([0.01, 0.03])
            out: list[tuple[float, bytes, Truth | None]] = []
            for place, each in enumerate(found):
                out.append(each)
                if place > 2 and dice.random() < every:
                    odd = (
                        dice.choice(ODD).encode()
                        if dice.random() < 0.8
                        else bytes([dice.randrange(128, 255), 0, 50, 129])
                    )
                    out.append((each[0], odd, None))
            found = out
            self.about["odd"] = "words and noise between"
        return found

    def clock(self, *, named: bool, share: float = 0.5) -> tuple[Callable[[float], str] | None, float, str]:
        if self.dice.random() > share:
            return None, 0.0, ""
        kinds = [k for k in CLOCKS if named or k not in ("ticks of 62.5 ms",)]
        if not self.aside:
            kinds = [k for k in kinds if k != "ns"]
        kind = self.dice.choice(kinds)
        write, tick, names = CLOCKS[kind]
        self.about["clock"] = kind
        return write, tick, self.dice.choice(names)

    def finish(self, family: str, texts: list[str], truths: list[Truth | None], times: list[float], *, head: list[str] = (), tick: float = 0.0, names: tuple[str, ...] = (), asks: bool = False, encoding: str = "utf-8") -> Stream:  # fmt: skip
        arrivals = self.arrivals(times)
        lines: list[tuple[float, bytes, Truth | None]] = [
            (arrivals[0] - 0.01, each.encode(encoding), None) for each in head
        ]
        lines += [(a, text.encode(encoding), truth) for a, text, truth in zip(arrivals, texts, truths, strict=True)]
        about = ", ".join(f"{key} {value}" for key, value in {"rate": f"{self.rate:g}", **self.about}.items())
        return Stream(family, about, self.odd_lines(lines), tick, names, asks, dict(self.about))


# families


def rows(maker: Maker, *, separators: tuple[str, ...] = (";", ",", "\t", " ", ", ", "; ", "|"), columns: tuple[int, int] = (1, 4)) -> Stream:  # fmt: skip
    """Values in a row: separators, names in a first line, clocks, wrapping, forms of numbers."""
    dice = maker.dice
    separator = dice.choice(separators)
    count = dice.randint(*columns)
    forms = maker.forms(count)
    named = dice.random() < 0.5
    write, tick, clock_name = maker.clock(named=named, share=0.45 if count > 0 else 0)
    comma = separator.strip() in (";", "|", "", "\t") and separator != " " and dice.random() < 0.25
    comma = comma and any(form.decimals for form in forms)
    shortest = dice.random() < 0.15
    times, values = maker.times(), maker.values(forms)
    wrap = dice.choice([("", ""), ("", ""), ("", ""), ("<", ">"), ("#", ""), ("K", ""), ("A", "X"), ("[", "]"), ("$", "*"), ("", separator.strip()), ("(", ")"), ("kit2> ", "")])  # fmt: skip
    if wrap[0] == "K" and count + (write is not None) == 1:
        wrap = ("", "")
    if (wrap[1] == "" and wrap[0] == "[") or (wrap == ("[", "]") and separator == ", "):
        wrap = ("<", ">")  # that would be JSON
    maker.about |= {"separator": repr(separator), "wrap": "".join(wrap)} | ({"decimals": "comma"} if comma else {})
    texts, truths = [], []
    for row, at in enumerate(times):
        fields = [maker.written(v[row], f, comma=comma, shortest=shortest) for v, f in zip(values, forms, strict=True)]
        if write is not None:
            stamp = write(at)
            fields.insert(0, stamp.replace(".", ",") if comma and ":" not in stamp else stamp)
        body = separator.join(fields)
        if wrap[1] == "*":
            check = 0
            for each in body.encode():
                check ^= each
            text = f"${body}*{check:02X}"
        else:
            text = f"{wrap[0]}{body}{wrap[1]}"
        texts.append(text)
        truths.append(Truth(tuple(v[row] for v in values)))
    head, names = [], ()
    if named and wrap[0] not in ("K", "A", "kit2> "):
        units = dice.random() < 0.5
        front = [clock_name] if write is not None else []
        titles = [f"{form.name} ({form.unit})" if units and form.unit else form.name for form in forms]
        head = [separator.join([*front, *titles])] if len(front) + len(titles) > 1 else []
        names = tuple(form.name for form in forms) if head else ()
        maker.about["names"] = "first line"
    elif tick == 0.0625:
        return rows(Maker(dice.randrange(10**6), aside=maker.aside))
    return maker.finish("rows", texts, truths, times, head=head, tick=tick, names=names)


def two_whole_numbers(maker: Maker) -> Stream:
    """Two whole numbers with a comma: a count and a count, a counter and a count, µs and a count; marks around."""
    dice = maker.dice
    whole = [form for form in FORMS if form.decimals == 0]
    forms = dice.sample(whole, 2)
    kind = dice.choice(["counts", "counter", "clock"])
    maker.about["kind"] = kind
    times, values = maker.times(), maker.values(forms)
    tick = 0.0
    first = dice.randint(0, 900)
    if kind == "counter":
        values[0] = [float(first + row) for row in range(maker.count)]
    write = None
    if kind == "clock":
        unit = dice.choice(["ms", "µs"])
        write, tick, _ = CLOCKS[unit]
    mark = dice.choice(["", "", "$", "<"])
    texts, truths = [], []
    for row, at in enumerate(times):
        one = write(at) if write else f"{values[0][row]:.0f}"
        body = f"{one},{values[1][row]:.0f}"
        check = 0
        for each in body.encode():
            check ^= each
        texts.append({"": body, "<": f"<{body}>", "$": f"${body}*{check:02X}"}[mark])
        truths.append(Truth((values[1][row],) if write else (values[0][row], values[1][row])))
    return maker.finish("two whole numbers", texts, truths, times, tick=tick)


def one_with_comma(maker: Maker) -> Stream:
    """One number with a decimal comma."""
    form = maker.dice.choice([form for form in FORMS if form.decimals])
    times, (values,) = maker.times(), maker.values([form])
    texts = [maker.written(value, form, comma=True) for value in values]
    moved = len({text.split(",")[0] for text in texts}) > 1
    return maker.finish("one with a decimal comma", texts, [Truth((v,)) for v in values], times, asks=not moved)


def start_letter(maker: Maker) -> Stream:
    """A letter glued to the first number, which is a quantity or a serial number."""
    dice = maker.dice
    count = dice.randint(2, 4)
    forms = maker.forms(count)
    times, values = maker.times(), maker.values(forms)
    letter, separator = dice.choice("KSABVRNX"), dice.choice([";", ",", " ", "\t"])
    serial = dice.random() < 0.4
    start = dice.randint(0, 300)
    filled = dice.random() < 0.5
    texts, truths = [], []
    for row in range(maker.count):
        numbers = [values[k][row] for k in range(count)]
        fields = [maker.written(n, f) for n, f in zip(numbers, forms, strict=True)]
        if serial:
            fields.insert(0, f"{start + row:04d}" if filled else f"{start + row}")
            numbers.insert(0, float(start + row))
        texts.append(letter + separator.join(fields))
        truths.append(Truth(tuple(numbers)))
    maker.about["serial"] = str(serial)
    return maker.finish("start letter", texts, truths, times)


def sensors_by_number(maker: Maker) -> Stream:
    """Rows that begin with a sensor's number; a far-off number where there is nothing; a legend or none."""
    dice = maker.dice
    sensors = dice.sample([1, 2, 3, 4, 5, 7, 12, 41, 42], dice.randint(2, 4))
    separator = dice.choice([" ", ";", ",", "\t"])
    most = dice.randint(1, 3)
    far = dice.choice(["999.9", "-999", "9999"])
    own: dict[int, list[Form]] = {}
    used: set[str] = set()
    for number in sensors:
        fresh = [form for form in FORMS if form.name not in used]
        own[number] = []
        while len(own[number]) < (dice.randint(1, most) if number != sensors[0] else most):
            form = dice.choice(fresh)
            if form.name not in used:
                own[number].append(form)
                used.add(form.name)
            if len(used) >= 9:
                break
        if not own[number]:
            own[number] = [dice.choice(FORMS)]
    fill = dice.random() < 0.6
    legend = dice.random() < 0.5
    times = maker.times()
    series = {number: maker.values(forms) for number, forms in own.items()}
    texts, truths = [], []
    for row in range(maker.count):
        number = sensors[row % len(sensors)] if dice.random() < 0.9 else dice.choice(sensors)
        numbers = [v[row] for v in series[number]]
        fields = [maker.written(n, f) for n, f in zip(numbers, own[number], strict=True)]
        if fill:
            fields += [far] * (most - len(fields))
        texts.append(separator.join([str(number), *fields]))
        truths.append(Truth(tuple(numbers)))
    layout = dice.choice(["{n} = {names}", "{n}: {names}", "sensor {n}: {names}", "{n} - {names}"])
    head = []
    if legend:
        for number in sensors:
            titles = [f"{f.name} ({f.unit})" if f.unit else f.name for f in own[number]]
            head.append(layout.format(n=number, names=", ".join(titles)))
    maker.about |= {"filled": str(fill), "legend": str(legend)}
    same = not fill and len({len(forms) for forms in own.values()}) == 1
    names = (
        tuple(f.name for forms in own.values() for f in forms)
        if legend
        and len(used) == sum(map(len, own.values()))
        and not (fill and any(len(f) < most for f in own.values()))
        else ()
    )
    if same and not legend:
        maker.about["same length"] = "yes"
    return maker.finish("sensors by number", texts, truths, times, head=head, names=names)


def sentences(maker: Maker) -> Stream:
    """Sentences with numbers at fixed places."""
    dice = maker.dice
    forms = maker.forms(dice.randint(1, 3))
    times, values = maker.times(), maker.values(forms)
    said = {"C": "C", "%": "percent", "deg": "degrees", "V": "volts"}
    joint = dice.choice([", ", " and ", "; ", " | "])
    verb = dice.choice([" is ", " = ", " at ", " reads ", " -> "])
    capital = dice.random() < 0.5
    end = dice.choice(["", ".", " ok", "!"])
    texts, truths = [], []
    for row in range(maker.count):
        parts = []
        for v, form in zip(values, forms, strict=True):
            name = form.name.capitalize() if capital else form.name
            unit = f" {said.get(form.unit, form.unit)}" if form.unit else ""
            parts.append(f"{name}{verb}{maker.written(v[row], form)}{unit}")
        texts.append(joint.join(parts) + end)
        truths.append(Truth(tuple(v[row] for v in values)))
    maker.about["verb"] = verb
    return maker.finish("sentences", texts, truths, times)


def brackets(maker: Maker) -> Stream:
    """Each value in brackets or quotes of its own."""
    dice = maker.dice
    forms = maker.forms(dice.randint(1, 4))
    times, values = maker.times(), maker.values(forms)
    one, other = dice.choice(["[]", "<>", "()", "''", '""', "||"])
    joint = dice.choice([" ", "", ", ", ";"])
    if (one, joint) in ((one, "") for one in "'\"|"):
        joint = " "
    texts = [joint.join(f"{one}{maker.written(v[row], f)}{other}" for v, f in zip(values, forms, strict=True)) for row in range(maker.count)]  # fmt: skip
    return maker.finish("brackets", texts, [Truth(tuple(v[row] for v in values)) for row in range(maker.count)], times)


def words(maker: Maker) -> Stream:
    """A stream of words that come again, alone or beside numbers."""
    dice = maker.dice
    kinds = dice.choice([("open", "closed"), ("on", "off"), ("wet", "dry"), ("left", "right", "middle"), ("low", "mid", "high"), ("day", "night")])  # fmt: skip
    form = dice.choice(FORMS)
    alone = dice.random() < 0.5
    state, times, (values,) = dice.choice(kinds), maker.times(), maker.values([form])
    texts, truths = [], []
    for row in range(maker.count):
        if dice.random() < 0.2 or row in (1, 4, 7, 9):
            state = dice.choice([word for word in kinds if word != state])
        texts.append(state if alone else f"{state};{maker.written(values[row], form)}")
        truths.append(Truth((state,) if alone else (state, values[row])))
    maker.about["words"] = " ".join(kinds) + (" alone" if alone else "")
    return maker.finish("words", texts, truths, times)


def named(maker: Maker) -> Stream:
    """A name at each value."""
    dice = maker.dice
    forms = maker.forms(dice.randint(1, 4))
    write, tick, clock_name = maker.clock(named=True, share=0.35)
    if clock_name in ("t/s", "time (ms)", "time (s)", "t (us)") or maker.about.get("clock") in ("date", "time of day"):
        write, tick = None, 0.0
        maker.about.pop("clock", None)
    times, values = maker.times(), maker.values(forms)
    mark, joint = dice.choice(["=", ":", ": ", " = "]), dice.choice([" ", ", ", ",", ";", "\t"])
    comma = joint in (" ", ";", "\t") and dice.random() < 0.2 and any(form.decimals for form in forms)
    units = dice.random() < 0.3
    change = dice.random() < 0.2
    texts, truths = [], []
    for row, at in enumerate(times):
        parts = [f"{clock_name}{mark}{write(at)}"] if write else []
        kept = [k for k in range(len(forms)) if not change or dice.random() < 0.7] or [0]
        for k in kept:
            unit = f" {forms[k].unit}" if units and forms[k].unit not in ("", "counts") else ""
            parts.append(f"{forms[k].name}{mark}{maker.written(values[k][row], forms[k], comma=comma)}{unit}")
        texts.append(joint.join(parts))
        truths.append(Truth(tuple(values[k][row] for k in kept)))
    if comma:
        maker.about["decimals"] = "comma"
    return maker.finish("named", texts, truths, times, tick=tick, names=tuple(form.name for form in forms))


def objects(maker: Maker) -> Stream:
    """A JSON object or array a line; a key t that may be a temperature or a clock."""
    dice = maker.dice
    forms = maker.forms(dice.randint(1, 4))
    times, values = maker.times(), maker.values(forms)
    t = dice.choice(["", "temperature", "clock", "ms"])
    array = t == "" and dice.random() < 0.3 and len(forms) > 1
    nested = not array and dice.random() < 0.2
    kits = ["a1", "b2", "c3"][: dice.choice([0, 0, 2, 3])] if not array else []
    temperature = Form("t", "", 21.4, 0.05, 2, -50, 120)
    own = temperature.values(dice.choice(SIGNALS), dice, maker.count, maker.rate)
    tick = {"clock": 1.0, "ms": 1e-3}.get(t, 0.0)
    texts, truths = [], []
    for row, at in enumerate(times):
        kit = kits[row % len(kits)] if kits else ""
        numbers = {form.name: v[row] if form.decimals else int(v[row]) for form, v in zip(forms, values, strict=True)}
        told = list(numbers.values())
        line: dict = {"id": kit} if kit else {}
        if t == "temperature":
            line["t"] = own[row]
            told.insert(0, own[row])
        elif t:
            line["t"] = round(at, 3) if t == "clock" else round(at * 1000)
        if nested:
            line["data"] = numbers
        else:
            line |= numbers
        texts.append(
            json.dumps(list(numbers.values()) if array else line, separators=dice.choice([(",", ":"), (", ", ": ")]))
        )
        truths.append(Truth(tuple(float(each) for each in told), kit=kit))
    maker.about["t"] = t
    return maker.finish("objects", texts, truths, times, tick=tick)


def relayed(maker: Maker) -> Stream:
    """Several kits through one port, an id in front or in a column."""
    dice = maker.dice
    count = dice.randint(2, 5)
    way = dice.choice(["K{k};", "kit{k}> ", "node{k}: ", "id column", "k{k}."])
    forms = maker.forms(dice.randint(2, 3) if way == "k{k}." else dice.randint(1, 3))
    times = maker.times()
    series = [maker.values(forms) for _ in range(count)]
    head = ["id;" + ";".join(form.name for form in forms)] if way == "id column" else []
    texts, truths = [], []
    for row in range(maker.count):
        kit = row % count if dice.random() < 0.9 else dice.randrange(count)
        numbers = [v[row] for v in series[kit]]
        fields = [maker.written(n, f) for n, f in zip(numbers, forms, strict=True)]
        if way == "k{k}.":
            texts.append(" ".join(f"k{kit + 1}.{f.name}={field}" for f, field in zip(forms, fields, strict=True)))
            id = f"k{kit + 1}"
        elif way == "id column":
            texts.append(";".join([str(kit + 1), *fields]))
            id = str(kit + 1)
        else:
            front = way.replace("{k}", str(kit + 1))
            texts.append(front + ";".join(fields))
            id = front.rstrip(";>: ")
        truths.append(Truth(tuple(numbers), kit=id))
    maker.about |= {"way": way, "kits": str(count)}
    return maker.finish("relayed", texts, truths, times, head=head)


def kinds_by_turns(maker: Maker) -> Stream:
    """Several kinds of line by turns: letters as tags, or rows of two lengths."""
    dice = maker.dice
    way = dice.choice(["tags", "longer now and then", "two lengths"])
    separator = dice.choice([",", ";", " ", "\t"])
    times = maker.times()
    texts, truths = [], []
    if way == "tags":
        tags = dice.sample(["ACC", "TMP", "GYR", "LUX", "BAT", "P"], dice.randint(2, 3))
        forms = {tag: maker.forms(dice.randint(1, 3)) for tag in tags}
        series = {tag: maker.values(forms[tag]) for tag in tags}
        for row in range(maker.count):
            tag = tags[0] if dice.random() < 0.5 else dice.choice(tags)
            numbers = [v[row] for v in series[tag]]
            texts.append(
                separator.join([tag, *(maker.written(n, f) for n, f in zip(numbers, forms[tag], strict=True))])
            )
            truths.append(Truth(tuple(numbers)))
    else:
        forms_ = maker.forms(4)
        series_ = maker.values(forms_)
        every = dice.choice([2, 4, 10])
        for row in range(maker.count):
            long = row % every == 0
            chosen = ([0, 1, 2] if long else [0, 1]) if way == "longer now and then" else ([0, 1, 2] if long else [3])
            if way == "two lengths" and separator == " ":
                chosen = [0, 1, 2] if long else [3]
            texts.append(separator.join(maker.written(series_[k][row], forms_[k]) for k in chosen))
            truths.append(Truth(tuple(series_[k][row] for k in chosen)))
    maker.about |= {"way": way}
    return maker.finish("kinds by turns", texts, truths, times)


# families that were set aside at first, and became known when they were looked at


def columns_with_check(maker: Maker) -> Stream:
    """A last column that is a check sum of the line, in decimals or hexadecimal."""
    dice = maker.dice
    forms = maker.forms(dice.randint(1, 3))
    times, values = maker.times(), maker.values(forms)
    separator, hexadecimal = dice.choice([",", ";"]), dice.random() < 0.5
    texts = []
    for row in range(maker.count):
        body = separator.join(maker.written(v[row], f) for v, f in zip(values, forms, strict=True))
        check = sum(body.encode()) & 0xFF
        texts.append(f"{body}{separator}{check:02X}" if hexadecimal else f"{body}{separator}{check}")
    return maker.finish(
        "check sums", texts, [Truth(tuple(v[row] for v in values)) for row in range(maker.count)], times
    )


def letters_between(maker: Maker) -> Stream:
    """Letters glued to numbers: `X12 Y-3 Z980`, `T21.4H40`."""
    dice = maker.dice
    count = dice.randint(2, 4)
    letters = dice.sample("XYZTHPLW", count)
    forms = maker.forms(count)
    times, values = maker.times(), maker.values(forms)
    joint = dice.choice([" ", ",", ", ", ";"])
    texts = [joint.join(f"{c}{maker.written(v[row], f)}" for c, v, f in zip(letters, values, forms, strict=True)) for row in range(maker.count)]  # fmt: skip
    return maker.finish(
        "letters at numbers",
        texts,
        [Truth(tuple(v[row] for v in values)) for row in range(maker.count)],
        times,
        names=tuple(letters),
    )


def lists_of_names(maker: Maker) -> Stream:
    """A name, a comma, a value: `temp,21.4,hum,44`; or a name and a value a line."""
    dice = maker.dice
    forms = maker.forms(dice.randint(2, 3))
    times, values = maker.times(), maker.values(forms)
    single = dice.random() < 0.5
    joint = dice.choice([",", ";", " ", "\t"])
    texts, truths = [], []
    for row in range(maker.count):
        if single:
            k = row % len(forms)
            texts.append(f"{forms[k].name}{joint}{maker.written(values[k][row], forms[k])}")
            truths.append(Truth((values[k][row],)))
        else:
            texts.append(
                joint.join(f"{f.name}{joint}{maker.written(v[row], f)}" for f, v in zip(forms, values, strict=True))
            )
            truths.append(Truth(tuple(v[row] for v in values)))
    return maker.finish("lists of names", texts, truths, times, names=tuple(form.name for form in forms))


def wide_rows(maker: Maker) -> Stream:
    """Five to nine columns, a clock in the last of them now and then."""
    return rows(maker, columns=(5, 9))


def slashes(maker: Maker) -> Stream:
    """Separators that are seldom used."""
    return rows(maker, separators=("/", ":", " ; ", " | ", "   "))


# families that were set aside while the scoring was made, and looked at once it stood


def glued_units(maker: Maker) -> Stream:
    """A unit glued to each value, in a row."""
    dice = maker.dice
    forms = [form for form in maker.forms(4) if form.unit in ("C", "V", "%", "hPa", "cm", "lx")] or [FORMS[3]]
    times, values = maker.times(), maker.values(forms)
    joint, gap = dice.choice([";", ", ", "\t", " "]), dice.choice(["", " "])
    texts = [joint.join(f"{maker.written(v[row], f)}{gap}{f.unit}" for v, f in zip(values, forms, strict=True)) for row in range(maker.count)]  # fmt: skip
    return maker.finish(
        "glued units", texts, [Truth(tuple(v[row] for v in values)) for row in range(maker.count)], times
    )


def padded(maker: Maker) -> Stream:
    """Columns filled up with spaces or zeros, or with a sign before each number."""
    dice = maker.dice
    way = dice.choice(["spaces", "zeros", "signs"])
    forms = [form for form in maker.forms(4) if way != "zeros" or form.low == 0][:3] or [FORMS[0]]
    times, values = maker.times(), maker.values(forms)
    joint = " " if way == "spaces" else dice.choice([";", ",", " "])
    shape = {"spaces": ">10.{d}f", "zeros": "010.{d}f", "signs": "+.{d}f"}[way]
    texts, truths = [], []
    for row in range(maker.count):
        texts.append(joint.join(format(v[row], shape.format(d=f.decimals)) for v, f in zip(values, forms, strict=True)))
        truths.append(Truth(tuple(v[row] for v in values)))
    maker.about["way"] = way
    return maker.finish("padded", texts, truths, times)


def hexadecimals(maker: Maker) -> Stream:
    """Whole numbers in hexadecimal, with a mark and without."""
    dice = maker.dice
    forms = dice.sample([form for form in FORMS if form.decimals == 0 and form.high > 4000], 2)
    times, values = maker.times(), maker.values(forms)
    joint, mark = dice.choice([" ", ";", ","]), dice.random() < 0.6
    texts = [joint.join(f"{'0x' if mark else ''}{int(v[row]):06X}" for v in values) for row in range(maker.count)]
    return maker.finish(
        "hexadecimals", texts, [Truth(tuple(v[row] for v in values)) for row in range(maker.count)], times
    )


def time_in_brackets(maker: Maker) -> Stream:
    """The kit's clock in brackets or before a colon, then the values."""
    dice = maker.dice
    forms = maker.forms(dice.randint(1, 3))
    times, values = maker.times(), maker.values(forms)
    way, joint = (
        dice.choice(["[{t:.2f}] ", "({t:.3f}) ", "{t:.2f}: ", "t={t:.2f} ", "[{ms}] "]),
        dice.choice([" ", ", ", ";"]),
    )
    texts, truths = [], []
    for row, at in enumerate(times):
        body = joint.join(maker.written(v[row], f) for v, f in zip(values, forms, strict=True))
        texts.append(way.format(t=at, ms=round(at * 1000)) + body)
        truths.append(Truth(tuple(v[row] for v in values)))
    maker.about["way"] = way
    return maker.finish("time in brackets", texts, truths, times, tick=1e-3 if "ms" in way else 1.0)


def marker_before_names(maker: Maker) -> Stream:
    """A word before rows or pairs, as `DATA temp=21.4` or `> 412 577`."""
    dice = maker.dice
    forms = maker.forms(dice.randint(1, 3))
    times, values = maker.times(), maker.values(forms)
    marker, pairs = dice.choice(["DATA ", "> ", "data: ", "OUT,", "#: ", "M;"]), dice.random() < 0.5
    texts = []
    for row in range(maker.count):
        fields = [maker.written(v[row], f) for v, f in zip(values, forms, strict=True)]
        if pairs:
            texts.append(marker + " ".join(f"{f.name}={field}" for f, field in zip(forms, fields, strict=True)))
        else:
            texts.append(marker + (";" if marker == "M;" else "," if marker == "OUT," else " ").join(fields))
    maker.about["marker"] = marker + (" pairs" if pairs else "")
    return maker.finish(
        "marker before", texts, [Truth(tuple(v[row] for v in values)) for row in range(maker.count)], times
    )


# families that are set aside: nothing is tuned on them


def arrows(maker: Maker) -> Stream:
    """A name, an arrow and a value, several in a line."""
    dice = maker.dice
    forms = maker.forms(dice.randint(1, 3))
    times, values = maker.times(), maker.values(forms)
    arrow, joint = dice.choice([" -> ", "->", " => ", " ~ "]), dice.choice([" | ", "; ", "  ", ", "])
    texts = [joint.join(f"{f.name}{arrow}{maker.written(v[row], f)}" for v, f in zip(values, forms, strict=True)) for row in range(maker.count)]  # fmt: skip
    return maker.finish("arrows", texts, [Truth(tuple(v[row] for v in values)) for row in range(maker.count)], times)


def value_then_name(maker: Maker) -> Stream:
    """What a value is stands behind it."""
    dice = maker.dice
    forms = maker.forms(dice.randint(1, 3))
    times, values = maker.times(), maker.values(forms)
    joint, gap = dice.choice([", ", "; ", " / "]), dice.choice([" ", " = "])
    texts = [joint.join(f"{maker.written(v[row], f)}{gap}{f.name}" for v, f in zip(values, forms, strict=True)) for row in range(maker.count)]  # fmt: skip
    return maker.finish("value, then name", texts, [Truth(tuple(v[row] for v in values)) for row in range(maker.count)], times)  # fmt: skip


def quoted_rows(maker: Maker) -> Stream:
    """Rows whose fields stand in quotes, as a program for tables writes them."""
    dice = maker.dice
    forms = maker.forms(dice.randint(2, 4))
    times, values = maker.times(), maker.values(forms)
    joint = dice.choice([",", ";", "\t"])
    texts = [joint.join(f'"{maker.written(v[row], f)}"' for v, f in zip(values, forms, strict=True)) for row in range(maker.count)]  # fmt: skip
    return maker.finish("quoted rows", texts, [Truth(tuple(v[row] for v in values)) for row in range(maker.count)], times)  # fmt: skip


def log_lines(maker: Maker) -> Stream:
    """A level or a part of the program in front, as in a log."""
    dice = maker.dice
    forms = maker.forms(dice.randint(1, 3))
    times, values = maker.times(), maker.values(forms)
    front = dice.choice(["[INFO] ", "I: ", "loop(): ", "[adc] "])
    texts = [front + ", ".join(f"{f.name}={maker.written(v[row], f)}" for v, f in zip(values, forms, strict=True)) for row in range(maker.count)]  # fmt: skip
    return maker.finish("log lines", texts, [Truth(tuple(v[row] for v in values)) for row in range(maker.count)], times)  # fmt: skip


def word_behind(maker: Maker) -> Stream:
    """A word or two behind the values, always the same."""
    dice = maker.dice
    forms = maker.forms(dice.randint(1, 3))
    times, values = maker.times(), maker.values(forms)
    joint, behind = dice.choice([" ", ";", ", "]), dice.choice([" ok", " -- end", ";done", " raw values"])
    texts = [joint.join(maker.written(v[row], f) for v, f in zip(values, forms, strict=True)) + behind for row in range(maker.count)]  # fmt: skip
    return maker.finish("word behind", texts, [Truth(tuple(v[row] for v in values)) for row in range(maker.count)], times)  # fmt: skip


FAMILIES: dict[str, Callable[[Maker], Stream]] = {
    "rows": rows, "two whole numbers": two_whole_numbers, "one with a decimal comma": one_with_comma, "start letter": start_letter,
    "sensors by number": sensors_by_number, "sentences": sentences, "brackets": brackets, "words": words, "named": named,
    "objects": objects, "relayed": relayed, "kinds by turns": kinds_by_turns, "check sums": columns_with_check,
    "letters at numbers": letters_between, "lists of names": lists_of_names, "wide rows": wide_rows, "rare separators": slashes,
    "glued units": glued_units, "padded": padded, "hexadecimals": hexadecimals, "time in brackets": time_in_brackets,
    "marker before": marker_before_names,
}  # fmt: skip
ASIDE: dict[str, Callable[[Maker], Stream]] = {
    "arrows": arrows, "value, then name": value_then_name, "quoted rows": quoted_rows, "log lines": log_lines,
    "word behind": word_behind,
}  # fmt: skip


def streams(count: int, first: int = 0, *, aside: bool = False) -> Iterator[Stream]:
    """So many streams of all families in turn, by seeds from `first` on; aside: of those that were kept aside."""
    families = list((ASIDE if aside else FAMILIES).values())
    for seed in range(first, first + count):
        yield families[seed % len(families)](Maker(seed, aside=aside))


def torn(stream: Stream, dice: random.Random) -> Stream:
    """One line in ten has lost its beginning, its end or some of its middle."""
    for at, (arrival, line, _) in enumerate(stream.lines):
        if len(line) > 3 and dice.random() < 0.1:
            low, high = sorted((dice.randrange(len(line)), dice.randrange(1, len(line) + 1)))
            left = dice.choice((line[low + 1 :], line[:high], line[:low] + line[high:]))
            stream.lines[at] = arrival, left, None
    return stream
