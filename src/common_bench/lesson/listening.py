"""Reading one link and printing its readings: what `common-bench listen` does."""

from __future__ import annotations

import json
import select
import time
from typing import Any

import numpy as np

from common_bench.links.address import SPEEDS, Address, read_address
from common_bench.links.link import Link
from common_bench.links.opening import open_link
from common_bench.model.block import Block, Stamped
from common_bench.model.trouble import LinkTrouble
from common_bench.model.visible import on_one_line
from common_bench.reading.heard import Heard
from common_bench.reading.reader import Reader
from common_bench.record.speed import LEAST_BYTES, TEXT_BYTES, TEXT_SHARE, TRY_SPEED_FOR
from common_bench.record.supervision import JOINED

WAIT = 0.2  # s
HELD_FOR = 10.0  # s that readings are held back until it is sure how they are read
REST = 0.1  # s that a port stays closed, so that its kit notices


def listen(link: str, seconds: float | None, *, as_json: bool) -> int:
    """Prints until the time is over, the link goes away, or it is stopped; then a summary."""
    began = time.monotonic()
    opened, seen = opened_at_its_speed(read_address(link))
    reader = Reader(paced=opened.address.paced)
    out = Printer(as_json=as_json)
    if opened.address.kind in JOINED:
        reader.join()
    told: LinkTrouble | None = None
    if seen:
        out.take(reader.feed([Stamped(time.monotonic() - began, seen)]), reader)
    try:
        while seconds is None or time.monotonic() - began < seconds:
            ready, _, _ = select.select([opened], [], [], WAIT)
            if not ready:
                continue
            data = opened.read()
            if data:
                out.take(reader.feed([Stamped(time.monotonic() - began, data)]), reader)
    except LinkTrouble as trouble:
        told = trouble if trouble.code != "file-ended" else None
        out.take(reader.lost(time.monotonic() - began), reader)
    except KeyboardInterrupt:
        pass
    finally:
        opened.close()
        out.flush()
        _summary(reader, opened.address.speed, time.monotonic() - began, as_json)
    if told is not None:
        raise LinkTrouble("listening-ended", told=told.what)
    return 0


def opened_at_its_speed(address: Address) -> tuple[Link, bytes]:
    """The link with what has come already, at the speed that was asked for or else the one found by trying."""
    if address.kind != "serial" or "speed" in address.given:
        return open_link(address), b""
    for speed in (address.speed, *(each for each in SPEEDS if each != address.speed)):
        seen, until = b"", time.monotonic() + 2 * TRY_SPEED_FOR
        link = open_link(address.at(speed))
        while len(seen) < LEAST_BYTES and time.monotonic() < until:
            if select.select([link], [], [], max(0.0, until - time.monotonic()))[0]:
                seen += link.read()
        if not seen or sum(1 for each in seen if each in TEXT_BYTES) >= TEXT_SHARE * len(seen):
            if speed == address.speed:
                return link, seen
            link.close()
            time.sleep(REST)
            return open_link(link.address), b""  # once more, so that its first words are heard
        link.close()
    return open_link(address), b""


class Printer:
    """Prints what is heard, in order. Guarantees that a line is printed once, as it is read in the end: what has come is
    held back until it is sure how lines are read, at most HELD_FOR s."""

    def __init__(self, *, as_json: bool) -> None:
        self._as_json = as_json
        self._held: list[tuple[int, dict[str, Any]]] = []
        self._printed = -1  # offset of the last line that was printed
        self._holding = True

    def take(self, heard: Heard, reader: Reader) -> None:
        if heard.anew >= 0:
            self._held = [each for each in self._held if each[0] < heard.anew]
        for block in heard.blocks:
            self._held += _readings(block)
        for told in (*heard.again, *heard.other_lines):
            if told.kind == "unreadable":
                self._held.append((told.offset, {"t": round(told.at, 6), "unreadable": told.line[:400].hex()}))
            else:
                self._held.append((told.offset, {"t": round(told.at, 6), "note": told.text}))
        sure = reader.format is not None and reader.format.is_sure
        if not self._holding or sure or (self._held and self._held[-1][1]["t"] - self._held[0][1]["t"] > HELD_FOR):
            self._holding = False
            self.flush()

    def flush(self) -> None:
        """Prints all that is held back."""
        for offset, line in sorted(self._held, key=lambda each: each[0]):
            if offset > self._printed:
                print(json.dumps(line) if self._as_json else on_one_line(_words(line)), flush=True)
        if self._held:
            self._printed = max(self._printed, max(offset for offset, _ in self._held))
        self._held = []


def _readings(block: Block) -> list[tuple[int, dict[str, Any]]]:
    def shown(value: float) -> float | None:
        return None if np.isnan(value) else value

    columns = {name: values.tolist() for name, values in block.channels.items()}
    return [
        (
            int(block.offset[row]),
            {
                "t": round(float(block.t[row]), 6),
                "clock": shown(float(block.clock[row])),
                "kit": block.kits[row] if block.kits else None,
                "values": {name: shown(values[row]) for name, values in columns.items()},
            },
        )
        for row in range(len(block))
    ]


def _words(line: dict[str, Any]) -> str:
    if "values" in line:
        values = "  ".join(
            f"{name} {'—' if v is None else f'{v:g}' if abs(v) < 1e5 else f'{v:.0f}'}"
            for name, v in line["values"].items()
        )
        return f"{line['t']:9.3f} s  {values}"
    if "note" in line:
        return f"{line['t']:9.3f} s  “{line['note']}”"
    return f"{line['t']:9.3f} s  unreadable: {line['unreadable'][:60]}"


def _summary(reader: Reader, speed: int, seconds: float, as_json: bool) -> None:
    columns = reader.format.columns if reader.format else ()
    rate = round(reader.readings / seconds, 2) if seconds > 0 else 0.0
    summary = {
        "lines": reader.lines,
        "readings": reader.readings,
        "notes": reader.notes,
        "unreadable": reader.unreadable,
        "speed": speed,
        "columns": [{"name": c.name, "unit": c.unit, "is": c.role, "rate": rate} for c in columns],
    }
    if as_json:
        print(json.dumps({"summary": summary}), flush=True)
        return
    names = ", ".join(
        f"{c.name}{f' ({c.unit})' if c.unit else ''} is {'the ' + c.role if c.role != 'channel' else 'a channel'}"
        for c in columns
    )
    counts = f"{reader.readings} readings ({rate:g} a second), {reader.notes} notes, {reader.unreadable} unreadable"
    print(on_one_line(f"{reader.lines} lines: {counts}. {names}"))
