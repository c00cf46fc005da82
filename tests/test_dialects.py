"""Every dialect that a kit may speak, read with no help; whatever else comes makes no reader fail or invent."""

from __future__ import annotations

import math
import random
import tomllib
from pathlib import Path

import numpy as np
import pytest

from common_bench.model.block import Block, Stamped
from common_bench.model.stream import Column, StreamFormat
from common_bench.reading.reader import Reader

SAMPLES = tomllib.loads((Path(__file__).parent / "dialects" / "samples.toml").read_text("utf-8"))["sample"]


def described(column: Column) -> str:
    if column.role != "channel":
        return f"{column.name}: {column.role}"
    return f"{column.name} ({column.unit})" if column.unit else column.name


def read(data: bytes, cuts: list[int]) -> tuple[Reader, list[Block]]:
    reader, blocks = Reader(), []
    places = sorted({0, len(data), *cuts})
    for low, high in zip(places, places[1:], strict=False):
        blocks += reader.feed([Stamped(low / 1000, data[low:high])]).blocks
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
        reader, blocks = read(data, cuts)
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
