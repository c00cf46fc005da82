"""Every dialect that a kit may speak, read with no help; whatever else comes makes no reader fail or invent."""

from __future__ import annotations

import math
import random
import tomllib
from pathlib import Path

import numpy as np
import pytest

from common_bench.model.block import Block
from common_bench.model.stream import Column, StreamFormat
from common_bench.reading.reader import Reader
from common_bench.standins.dialects import SPEECHES, Sensed, Speech
from heard import now_read, paced

SAMPLES = tomllib.loads((Path(__file__).parent / "dialects" / "samples.toml").read_text("utf-8"))["sample"]


def described(column: Column) -> str:
    if column.role != "channel":
        return f"{column.name}: {column.role}"
    return f"{column.name} ({column.unit})" if column.unit else column.name


def read(data: bytes, cuts: list[int], every: float = 0.02) -> tuple[Reader, list[Block]]:
    """Bytes that were heard in these chunks, a line each so many s; what has been read anew stands for what was before."""
    reader, blocks = Reader(), []
    for at in paced(data, cuts, every):
        blocks = now_read(blocks, reader.feed([at]))
    return reader, blocks


def last_values(format: StreamFormat, blocks: list[Block]) -> list[float]:
    names = [column.name for column in format.columns if column.role == "channel"]
    return [float(blocks[-1].channels[name][-1]) if name in blocks[-1].channels else math.nan for name in names]


@pytest.mark.parametrize("sample", SAMPLES, ids=lambda each: each["name"])
def test_a_dialect_is_read_with_no_help(sample: dict) -> None:
    data = sample["text"].encode("latin-1" if sample.get("latin") else "utf-8")
    dice = random.Random(sample["name"])
    seen = []
    for cuts in ([], dice.sample(range(len(data)), min(20, len(data) - 1)), list(range(len(data)))):
        reader, blocks = read(data, cuts, sample.get("every", 0.02))
        assert reader.format is not None, "no format was found"
        assert [described(column) for column in reader.format.columns] == sample["columns"]
        np.testing.assert_allclose(last_values(reader.format, blocks), sample["last"])
        for what in ("readings", "notes", "unreadable"):
            if what in sample:
                assert getattr(reader, what) == sample[what], what
        if "kits" in sample:
            assert sorted(reader.kits) == sample["kits"]
        assert bool(reader.format.question) == sample.get("question", False)
        assert list(reader.format.proposals) == sample.get("proposals", [])
        seen.append((reader.format, reader.readings, reader.unreadable, reader.notes))
    assert seen[0] == seen[1] == seen[2], "chunks must not matter"


def test_the_corpus_is_as_large_as_it_should_be() -> None:
    assert len(SAMPLES) >= 60
    assert len({sample["name"] for sample in SAMPLES}) == len(SAMPLES)


def said(speech: Speech, moving: set[str], rows: int = 200) -> bytes:
    """What a kit says whose sensors named here move, and whose others stand still."""
    dice, lines = random.Random(7), [*speech.start]
    for row in range(rows):
        load, temp, hum, door = dice.randint(-400, 400), dice.uniform(-3, 3), dice.uniform(-5, 5), dice.random() < 0.5
        sensed = Sensed(
            20.0 * row, 8412 + load * ("load" in moving), 21.4 + temp * ("temp" in moving),
            40 + hum * ("hum" in moving), door and "door" in moving, row,
        )  # fmt: skip
        line = speech.line(sensed)
        lines += [line] if line else []
    return speech.end.join(lines) + speech.end


@pytest.mark.parametrize("name", SPEECHES)
def test_sensors_that_stand_still_are_read_as_those_that_move(name: str) -> None:
    """A room's temperature shows one number for minutes; that makes it neither a word nor a clock nor a kit."""
    found = []
    for moving in ({"load", "temp", "hum", "door"}, set(), {"load"}, {"temp"}, {"door", "hum"}):
        data = said(SPEECHES[name], moving)
        reader, _ = read(data, list(range(0, len(data), 37)))
        assert reader.format is not None
        found.append((reader.format.dialect, reader.format.decimal_comma, reader.format.columns, reader.unreadable))
    assert all(each == found[0] for each in found)
