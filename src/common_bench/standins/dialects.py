"""How stand-in kits speak: one table of dialects. A reading of the simulated sensors in; bytes of its lines out."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

WORD = "load"  # what the main channel is called in the dialects
START_OF_DAY = datetime(2026, 11, 24, 10, 15, 30, tzinfo=UTC)


@dataclass(frozen=True)
class Sensed:
    """What the sensors of a stand-in kit show: ms of its clock, raw counts, °C, %, a contact, the row's number."""

    ms: float
    load: int
    temp: float
    hum: float
    door: bool
    row: int


@dataclass(frozen=True)
class Speech:
    """start: lines at start; line: what is sent for a reading (may be nothing); about: for the list."""

    about: str
    line: Callable[[Sensed], bytes]
    start: tuple[bytes, ...] = ()
    end: bytes = b"\r\n"

    def of(self, word: str) -> Speech:
        """The same for a kit that calls its channel by another word."""
        if word == WORD:
            return self
        old, new = WORD.encode(), word.encode()
        start = tuple(line.replace(old, new) for line in self.start)
        return Speech(self.about, lambda sensed: self.line(sensed).replace(old, new), start, self.end)


def _text(form: str) -> Callable[[Sensed], bytes]:
    return lambda s: form.format(s=s, ms=round(s.ms), us=round(s.ms * 1000) % 2**32, door=int(s.door)).encode()


def _comma(s: Sensed) -> bytes:
    return f"{s.load};{s.temp:.1f};{s.hum:.0f}".encode().replace(b".", b",")


def _date(s: Sensed) -> bytes:
    when = START_OF_DAY + timedelta(milliseconds=round(s.ms))
    return f"{when:%Y-%m-%d %H:%M:%S}.{when.microsecond // 1000:03d};{s.load};{s.temp:.1f}".encode()


def _tagged(s: Sensed) -> bytes:
    return f"1 {s.load}".encode() if s.row % 5 else f"2 {s.temp:.1f} {s.hum:.0f}".encode()


def _mixed_rates(s: Sensed) -> bytes:
    slow = f" temp={s.temp:.1f} hum={s.hum:.0f}" if s.row % 10 == 0 else ""
    return f"load={s.load}{slow}".encode()


def _no_value(s: Sensed) -> bytes:
    return f"{round(s.ms)};{s.load};{999.99 if s.row % 7 == 3 else s.temp:.2f}".encode()


def _later(s: Sensed) -> bytes:
    return f"{s.load},{s.temp:.1f}{f',{s.hum:.0f}' if s.row > 100 else ''}".encode()


def _check(s: Sensed) -> bytes:
    body = f"{s.load},{s.temp:.1f}"
    check = 0
    for each in body.encode():
        check ^= each
    return f"${body}*{check:02X}".encode()


def _menu_between(s: Sensed) -> bytes:
    more = b"\r\n--- h for help, [f] faster, [q] quit ---" if s.row % 60 == 59 else b""
    return f"{round(s.ms)};{s.load};{s.temp:.1f}".encode() + more


def _json(s: Sensed) -> bytes:
    return json.dumps({"ms": round(s.ms), "load": s.load, "temp": round(s.temp, 1)}).encode()


def _nested(s: Sensed) -> bytes:
    return json.dumps(
        {"ms": round(s.ms), "air": {"temp": round(s.temp, 1), "hum": round(s.hum)}, "load": s.load}
    ).encode()


def _senml(s: Sensed) -> bytes:
    base = {"bn": "urn:dev:kit:", "bt": round(1_700_000_000 + s.ms / 1000, 3)}
    pack = [base | {"n": "load", "v": s.load}, {"n": "temp", "u": "Cel", "v": round(s.temp, 1)}]
    return json.dumps(pack, separators=(",", ":")).encode()


ROWS = (b"ms;load;temp",)
SPEECHES: dict[str, Speech] = {
    "semicolons": Speech("names first, then rows parted by semicolons", _text("{ms};{s.load};{s.temp:.1f}"), ROWS),
    "commas": Speech("names first, then rows parted by commas", _text("{ms},{s.load},{s.temp:.1f}"), (b"ms,load,temp",)),
    "comma-space": Speech("commas with a space", _text("{ms}, {s.load}, {s.temp:.1f}"), (b"ms, load, temp",)),
    "tabs": Speech("parted by tabs, units in the names", _text("{ms}\t{s.load}\t{s.temp:.1f}"), (b"time (ms)\tload\ttemp (\xc2\xb0C)",)),
    "spaces": Speech("parted by spaces, no names", _text("{ms} {s.load} {s.temp:.1f}")),
    "padded": Speech("columns padded with spaces", _text("{ms:>10} {s.load:>8} {s.temp:>7.1f}"), (b"ms load temp",)),
    "trailing": Speech("a separator at the end of each row", _text("{ms};{s.load};{s.temp:.1f};"), ROWS),
    "decimal-comma": Speech("decimal commas", _comma, (b"load;temp;hum",)),
    "names-colon": Speech("names in each line, with colons", _text("load:{s.load} temp:{s.temp:.1f} hum:{s.hum:.0f}")),
    "names-equals": Speech("names in each line, with a clock", _text("ms={ms} load={s.load} temp={s.temp:.1f}")),
    "letters": Speech("letters before, units behind", _text("L {s.load} T {s.temp:.1f}C H {s.hum:.0f}%")),
    "json": Speech("a JSON object a line", _json),
    "json-nested": Speech("JSON objects inside each other", _nested),
    "json-array": Speech("a JSON array a line", _text("[{ms}, {s.load}, {s.temp:.1f}]"), (b'["ms", "load", "temp"]',)),
    "senml": Speech("SenML (RFC 8428)", _senml),
    "tagged": Speech("rows that begin with a tag, legend once", _tagged, (b"1 = load", b"2 = temp (\xc2\xb0C), hum (%)")),
    "on-change": Speech("names, and only what changes", lambda s: b"" if s.row % 37 else f"door={int(s.row % 74 == 0)}".encode()),
    "mixed-rates": Speech("two rates mixed on one stream", _mixed_rates),
    "one-number": Speech("one number a line", _text("{s.load}")),
    "hexadecimal": Speech("hexadecimal", _text("0x{s.load:05X} 0x{s.row:04X}")),
    "marks": Speech("in angle brackets", _text("<{s.load},{s.temp:.1f}>")),
    "check-digits": Speech("a start mark and check digits", _check),
    "check-letter": Speech("a start letter and a check letter", _text("A{s.load} {s.temp:.1f}X")),
    "micros": Speech("a clock in µs", _text("{us},{s.load}"), (b"us,load",)),
    "seconds": Speech("a clock in s", _text("{s.ms:.0f}e-3,{s.load}"), (b"s,load",)),
    "date": Speech("date and time text", _date),
    "no-clock": Speech("no clock of its own", _text("{s.load};{s.temp:.1f}"), (b"load;temp",)),
    "no-value": Speech("999.99 stands for no value", _no_value, ROWS),
    "twice-named": Speech("two columns of one name", _text("{ms};{s.temp:.1f};{s.temp:.2f}"), (b"ms;temp;temp",)),
    "later-column": Speech("a column that appears after a while", _later),
    "cr": Speech("lines end with CR alone", _text("{ms};{s.load};{s.temp:.1f}"), ROWS, b"\r"),
    "lf": Speech("lines end with LF alone", _text("{ms};{s.load};{s.temp:.1f}"), ROWS, b"\n"),
    "latin-1": Speech("Latin-1", lambda s: f"Temperatur: {s.temp:.1f} °C Last: {s.load}".encode("latin-1")),
    "on-off": Speech("words for on and off", lambda s: f"{s.load};{'ON' if s.door else 'OFF'}".encode(), (b"load;lamp",)),
    "help-between": Speech("help text and menus between the rows", _menu_between, (b"Balance kit 2.1", b"press h for help", *ROWS)),
    "relay-column": Speech("a receiver that relays three kits, an id column", lambda s: f"{s.row % 3 + 1},{s.load + s.row % 3 * 100},{s.temp:.1f}".encode(), (b"id,load,temp",)),
    "relay-letters": Speech("a receiver that relays three kits, ids in front", lambda s: f"K{s.row % 3 + 1};{s.load + s.row % 3 * 100};{s.temp:.1f}".encode()),
    "relay-names": Speech("a receiver that relays two kits, ids before the names", lambda s: f"k{s.row % 2 + 1}.load={s.load} k{s.row % 2 + 1}.temp={s.temp:.1f}".encode()),
}  # fmt: skip
