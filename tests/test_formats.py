"""Working formats out by evidence: streams of every family, questions, changes, clocks, ids, and what stands by hand."""

from __future__ import annotations

import random
import sys
from collections.abc import Callable

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from common_bench.lesson.reading_words import change_words, lead_words, shown_readings
from common_bench.model.block import Stamped
from common_bench.model.stream import Column, StreamFormat
from common_bench.reading.description import number_text, numbers_bits, series_bits, words_bits
from common_bench.reading.naming import legend_in
from common_bench.reading.reader import Reader
from common_bench.reading.roles import clock_of, pace_of
from common_bench.record.chain import Chain
from common_bench.workings.evaluate import check
from heard import all_read, all_told, as_lines, paced, stalled
from streams import ASIDE, FAMILIES, Maker, Stream, streams, torn, wrong_in

PLENTY = 102  # streams: six of each family


def read(stream: Stream, groups: list[int] | None = None, skip: int = 0) -> tuple[Reader, list]:
    """A stream line by line, or so many chunks at once, from the byte `skip` on."""
    reader, heard = Reader(), []
    chunks = [Stamped(at, line + b"\n") for at, line, _ in stream.lines]
    if skip:
        reader.join()
        while skip >= len(chunks[0].data):
            skip -= len(chunks.pop(0).data)
        chunks[0] = Stamped(chunks[0].at, chunks[0].data[skip:])
    sizes, place = groups or [1], 0
    while place < len(chunks):
        size = sizes[len(heard) % len(sizes)]
        heard.append(reader.feed(chunks[place : place + size]))
        place += size
    return reader, heard


@pytest.mark.long_proof
def test_streams_of_all_families_are_read_with_no_help() -> None:
    """Nearly all in the end; of those that are called sure, none wrongly in what it reads."""
    wrong = []
    for stream in streams(PLENTY, 31_000):
        reader, _ = read(stream)
        if said := wrong_in(reader.format, stream):
            wrong.append((stream.family, stream.about, said, reader.format is not None and reader.format.sure))
    assert len(wrong) <= 2, wrong
    assert sum(1 for each in wrong if each[3] == 1.0) <= 1, wrong


def test_families_that_were_set_aside_are_read_as_well() -> None:
    wrong = [
        (s.family, s.about, said) for s in streams(20, 500, aside=True) if (said := wrong_in(read(s)[0].format, s))
    ]
    assert not wrong


def test_a_stream_of_which_one_line_in_ten_is_torn_is_read_as_its_whole_lines_are() -> None:
    wrong = [
        (s.family, s.about, said) for each in streams(20, 800, aside=True) if (said := wrong_in(read(s := torn(each, random.Random(5)))[0].format, s))
    ]  # fmt: skip
    assert len(wrong) <= 1, wrong


@settings(max_examples=10)
@given(st.integers(0, 10**6), st.integers(100, 200))
def test_a_clock_that_lost_its_first_digits_now_and_then_is_the_clock_still(seed: int, first: int) -> None:
    dice, reader = random.Random(seed), Reader()
    for k in range(500):
        line = b"%d;%d;%.1f" % (34_160 + 20 * k, 8949 + dice.gauss(0, 29), 21.4 + dice.gauss(0, 0.05))
        line = line[dice.randrange(len(line)) :] if k > first and dice.random() < 0.1 else line
        reader.feed([Stamped(0.02 * k, line + b"\n")])
    assert reader.format is not None
    assert roles(reader.format) == ["clock", "channel", "channel"]
    assert reader.format.sure == 1.0


@settings(max_examples=10)
@given(st.integers(0, 10**6), st.integers(0, 100))
def test_a_name_that_lost_a_letter_is_no_other_name(seed: int, first: int) -> None:
    dice, reader = random.Random(seed), Reader()
    for k in range(220):
        line = f"ms={20 * k} light={475 + dice.gauss(0, 1.5):.0f} temp={21.4 + dice.gauss(0, 0.05):.1f}".encode()
        line = line[dice.randrange(len(line)) :] if k > first and dice.random() < 0.1 else line
        reader.feed([Stamped(0.02 * k, line + b"\n")])
    assert reader.format is not None
    assert [column.name for column in reader.format.columns] == ["ms", "light", "temp"]


@given(st.sampled_from(sorted({**FAMILIES, **ASIDE})), st.integers(0, 10**6), st.lists(st.integers(1, 40), min_size=1, max_size=20))  # fmt: skip
def test_the_same_lines_in_any_chunks_give_the_same_format_and_readings(
    family: str, seed: int, groups: list[int]
) -> None:
    stream = {**FAMILIES, **ASIDE}[family](Maker(seed))
    stream.lines = stream.lines[:150]
    one, other = read(stream), read(stream, groups)
    assert one[0].format == other[0].format
    counts = [(r.lines, r.readings, r.unreadable, r.notes, r.kits) for r, _ in (one, other)]
    assert counts[0] == counts[1]
    assert one[0].lines == one[0].readings + one[0].unreadable + one[0].notes + len(one[0].finder._waiting)
    assert all_told(one[1]) == all_told(other[1])
    blocks = [all_read(each[1]) for each in (one, other)]
    for what in ("t", "arrival", "offset"):
        np.testing.assert_array_equal(*[np.concatenate([getattr(b, what) for b in each] or [np.empty(0)]) for each in blocks])  # fmt: skip


@settings(max_examples=30)
@given(st.sampled_from(["two whole numbers", "start letter", "sensors by number", "sentences", "brackets", "named", "objects"]), st.integers(0, 300), st.integers(1, 400))  # fmt: skip
def test_wherever_a_stream_is_joined_it_is_read_as_its_family_says(family: str, seed: int, skip: int) -> None:
    stream = FAMILIES[family](Maker(seed * 12 + 7))
    stream.names = ()
    whole, joined = (wrong_in(read(stream, skip=each)[0].format, stream) for each in (0, skip))
    assert bool(joined) <= bool(whole), joined


# what went wrong before, by kind


def lines_of(text: Callable[[int], str], count: int = 240) -> list[bytes]:
    return [text(at).encode() for at in range(count)]


def format_of(lines: list[bytes], every: float = 0.05) -> StreamFormat:
    reader = Reader()
    for chunk in paced(b"\n".join(lines) + b"\n", [], every):
        reader.feed([chunk])
    assert reader.format is not None
    return reader.format


def roles(format: StreamFormat) -> list[str]:
    return [column.role for column in format.columns]


dice = random.Random(3)
NOISE = [dice.gauss(0, 3) for _ in range(400)]


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        (lambda k: f"{412 + NOISE[k]:.0f},{577 + NOISE[-k]:.0f}", ["channel", "channel"]),
        (lambda k: f"{k},{577 + NOISE[k]:.0f}", ["channel", "channel"]),
        (lambda k: f"{5_000_000 + 50_000 * k},{577 + NOISE[k]:.0f}", ["clock", "channel"]),
        (lambda k: f"{100 + 25 * k if k < 60 else 3000 - 10 * k};{577 + NOISE[k]:.0f}", ["channel", "channel"]),
        (lambda k: f'{{"t": {21.4 + NOISE[k] / 50:.2f}, "hum": 44}}', ["channel", "channel"]),
        (lambda k: f'{{"t": {50 * k}, "hum": {44 + NOISE[k]:.0f}}}', ["clock", "channel"]),
        (lambda k: f"{12.5 + k * 0.05:.2f} {577 + NOISE[k]:.0f}", ["clock", "channel"]),
        (lambda k: f"K{433 + NOISE[k]:.0f};{574 + NOISE[-k]:.0f};606", ["channel"] * 3),
        (lambda k: f"S{k:05d};{574 + NOISE[-k]:.0f}", ["channel"] * 2),
        (lambda k: f"Temp is {21.4 + NOISE[k] / 50:.1f} C, humidity {44 + NOISE[-k] / 5:.0f} percent", ["channel"] * 2),
        (lambda k: f"[{412 + NOISE[k]:.0f}] [{577 + NOISE[-k]:.0f}]", ["channel"] * 2),
        (lambda k: "test 7" if k % 40 == 9 else f"{412 + NOISE[k]:.0f} {577 + NOISE[-k]:.0f}", ["channel"] * 2),
        (lambda k: "open" if NOISE[k] > 0 else "closed", ["channel"]),
    ],
)  # fmt: skip
def test_what_was_read_wrongly_before_is_read_right(text: Callable[[int], str], wanted: list[str]) -> None:
    found = format_of(lines_of(text))
    assert roles(found) == wanted
    assert not found.shared


def test_sensors_by_number_with_a_far_off_number_are_kinds_of_rows() -> None:
    def row(k: int) -> str:
        return f"5 {431 + NOISE[k]:.0f} {570 + NOISE[-k]:.0f} 612" if k % 2 else f"41 {388 + NOISE[k]:.0f} 999.9 999.9"

    plain, named = format_of(lines_of(row)), format_of([b"5 = tilt (deg), dip, roll", b"41: glow, lx", *lines_of(row)])
    assert plain.dialect == named.dialect == "tagged"
    assert [c.name for c in plain.columns if c.role == "channel"] == ["row 5 value 1", "row 5 value 2", "row 5 value 3", "row 41 value 1"]  # fmt: skip
    assert [c.name for c in named.columns][:3] == ["tilt", "dip", "roll"]
    assert plain.proposals == ("999.9",)


@pytest.mark.parametrize(
    "line",
    [
        b"5 = tilt (deg)",
        b"5: tilt (deg)",
        b"5: tilt, deg",
        b"sensor 5: tilt (deg)",
        b"5 - tilt [deg]",
        b"5 | tilt | deg",
        b"5,tilt,deg",
        b"5\ttilt\tdeg",
        b"5 -> tilt (deg)",
    ],
)
def test_a_legend_is_read_in_many_layouts(line: bytes) -> None:
    assert legend_in([line]) == {"5": [("tilt", "°")]}


# sureness, questions, changes


def test_two_readings_that_stay_equally_likely_are_asked_about_after_ten_seconds_and_shown_beside_each_other() -> None:
    reader = Reader()
    asked = []
    for chunk in paced(b"21,4\n" * 130, [], 0.1):
        reader.feed([chunk])
        asked.append((chunk.at, reader.format is not None and bool(reader.format.question)))
    assert min(at for at, now in asked if now) == pytest.approx(10.2, abs=0.3)
    judgement = reader.finder.judgement
    assert judgement is not None
    assert not judgement.sure
    first, second = shown_readings(judgement)
    assert {first.lines[-1], second.lines[-1]} == {"column 1 21.4", "column 1 21 · column 2 4"}
    assert "not sure yet" in lead_words(judgement)


def test_a_first_reading_is_so_far_until_the_next_one_is_clearly_behind() -> None:
    reader, sure = Reader(), []
    for at, line in enumerate(lines_of(lambda k: f"{412 + NOISE[k]:.0f},{577 + NOISE[-k]:.0f}", 100)):
        reader.feed([Stamped(0.05 * at, line + b"\n")])
        if reader.format is not None:
            sure.append((reader.format.sure, len(reader.format.columns)))
    assert sure[0][0] < 1.0
    assert sure[-1] == (1.0, 2)
    assert all(columns == 2 for s, columns in sure if s == 1.0)


def test_what_comes_later_changes_the_format_and_is_read_anew_from_the_beginning() -> None:
    rising = lines_of(lambda k: f"{1000 + 50 * k};{577 + NOISE[k]:.0f}", 30)
    falling = lines_of(lambda k: f"{2500 - 35 * k};{577 + NOISE[k]:.0f}", 200)
    reader, heard = Reader(), []
    for chunk in paced(b"\n".join([*rising, *falling]) + b"\n", [], 0.05):
        heard.append(reader.feed([chunk]))
    assert reader.format is not None
    assert roles(reader.format) == ["channel", "channel"], "a ramp that falls again is no clock"
    blocks = all_read(heard)
    assert sum(len(block) for block in blocks) == reader.readings == 230
    assert {name for block in blocks for name in block.channels} == {"column 1", "column 2"}


def test_what_is_set_by_hand_stands_whatever_comes() -> None:
    mine = StreamFormat(";", (Column("a"), Column("b")), by_hand=True)
    reader = Reader(mine)
    for chunk in paced(b"load=512 temp=21.4\n" * 300, [], 0.05):
        reader.feed([chunk])
    assert reader.format == mine
    assert reader.readings == 0


def test_rows_that_were_cut_off_are_no_rows_of_another_length() -> None:
    throws = random.Random(5)

    def row(k: int) -> str:
        whole = f"{20 * k};{8412 + NOISE[k]:.0f};{21.4 + NOISE[-k] / 50:.1f}"
        return whole[: throws.randrange(1, len(whole) - 5)] if k > 40 and throws.random() < 0.3 else whole

    found = format_of(lines_of(row), every=0.02)
    assert not found.lengths
    assert len(found.columns) == 3
    assert found.dialect == "separated"


def test_a_sure_format_is_given_up_for_one_that_reads_what_comes_now() -> None:
    reader = Reader()
    for chunk in paced(b"\n".join(lines_of(lambda k: f"{412 + NOISE[k]:.0f};{577 + NOISE[-k]:.0f}")) + b"\n", [], 0.05):
        reader.feed([chunk])
    before = reader.format
    assert before is not None
    assert before.sure == 1.0
    for at, line in enumerate(lines_of(lambda k: f"load={512 + NOISE[k]:.0f} temp=21.4", 300)):
        reader.feed([Stamped(12.0 + 0.05 * at, line + b"\n")])
    assert reader.format is not None
    assert reader.format.dialect == "named"
    assert "is read in another way now: a name at each value" in change_words("Basalt", before, reader.format)


def test_while_a_run_is_recorded_another_reading_is_only_remembered_and_taken_when_it_has_ended() -> None:
    reader = Reader()
    for chunk in paced(b"\n".join(lines_of(lambda k: f"{412 + NOISE[k]:.0f};{577 + NOISE[-k]:.0f}")) + b"\n", [], 0.05):
        reader.feed([chunk])
    before = reader.format
    reader.begin_run()
    others = lines_of(lambda k: f"load={512 + NOISE[k]:.0f} temp=21.4", 200)
    for at, line in enumerate(others):
        assert reader.feed([Stamped(12.0 + 0.05 * at, line + b"\n")]).anew < 0
    assert reader.format == before
    assert reader.finder.doubt is not None
    assert reader.finder.doubt.dialect == "named"
    reader.end_run()
    for at, line in enumerate(others * 3):
        reader.feed([Stamped(22.0 + 0.05 * at, line + b"\n")])
    assert reader.format is not None
    assert reader.format.dialect == "named"


# clocks and ids


@given(st.integers(4, 20), st.sampled_from(["noise", "any", "wave", "counter"]), st.integers(0, 10**6))
@settings(max_examples=25)
def test_a_small_whole_number_that_takes_no_turns_is_a_quantity(most: int, kind: str, seed: int) -> None:
    dice, reader, at = np.random.default_rng(seed), Reader(), np.arange(400)
    values = {
        "noise": np.clip(np.round(most / 2 + dice.normal(0, most / 6, 400)), 0, 99), "any": dice.integers(0, most, 400),
        "wave": np.round(most / 2 * (1 + np.sin(at * dice.uniform(0.2, 1.5)) + dice.normal(0, 0.1, 400))).clip(0), "counter": at % 10,
    }[kind]  # fmt: skip
    lines = [b"%d,%d,%.1f" % (first, 500 + dice.integers(-5, 5), 21 + 0.1 * dice.normal()) for first in values]
    for chunk in paced(b"\n".join(lines) + b"\n", [], 0.03):
        reader.feed([chunk])
    assert reader.format is not None
    assert roles(reader.format) == ["channel"] * 3
    assert reader.format.sure == 1.0


@given(
    st.integers(2, 12), st.integers(1, 3), st.sampled_from([";", ",", "\t", " "]), st.sampled_from([0, 1]),
    st.floats(0.0, 0.1), st.integers(0, 10**6),
)  # fmt: skip
@settings(max_examples=25)
def test_rows_that_begin_with_a_number_of_a_kit_or_of_a_sensor_are_asked_about_and_never_sure(
    count: int, columns: int, separator: str, first: int, missed: float, seed: int
) -> None:
    """As heard from a receiver that was plugged in before: the line of names has gone by."""
    dice, reader, heard = np.random.default_rng(seed), Reader(), []
    levels = dice.uniform(100, 900, (count, columns))
    lines = []
    for at in range(60 * count):
        if dice.random() >= missed:
            values = levels[at % count] + dice.normal(0, 3.0, columns)
            lines.append(separator.join([str(at % count + first), *(f"{each:.1f}" for each in values)]).encode())
    for chunk in paced(b"\n".join(lines) + b"\n", [], 12.0 / len(lines)):
        heard.append(reader.feed([chunk]))
        assert reader.format is None or reader.format.sure < 1.0
        if dice.random() < missed / 2:
            noise = separator.join(["x"] + ["21.0"] * columns).encode()
            reader.feed([Stamped(chunk.at, noise + b"\n")])
    format = reader.format
    assert format is not None
    assert format.other is not None
    assert {format.dialect, format.other.dialect} == {"separated", "tagged"}
    assert "that of a kit" in format.question
    kits = format if format.dialect == "separated" else format.other
    assert [column.role for column in kits.columns] == ["kit"] + ["channel"] * columns
    assert len(format.other.columns if kits is format else format.columns) == count * columns


@given(
    st.sampled_from([(1.0, 2), (1e-3, 0), (1e-6, 0), (1e-9, 0)]),
    st.floats(0.01, 0.5),
    st.floats(-3e-4, 3e-4),
    st.floats(0.0, 2.5),
    st.integers(0, 10**6),
)
def test_a_clock_is_known_by_its_pace_in_any_unit_through_stalls(unit: tuple[float, int], step: float, drift: float, stall: float, seed: int) -> None:  # fmt: skip
    tick, digits = unit
    throws = np.random.default_rng(seed)
    true = np.cumsum(np.full(200, step) * throws.uniform(0.95, 1.05, 200)) + 5.0
    values = np.round(true * (1 + drift) / tick, digits)
    arrivals = true + throws.exponential(0.004, 200)
    late = (arrivals > true[60]) & (arrivals < true[60] + stall)
    arrivals[late] = true[60] + stall
    pace = pace_of(values, np.maximum.accumulate(arrivals))
    found = clock_of("column 1", "", "number", pace, np.diff(values), alone=False, paced=True)
    if pace.seconds >= 4.0 and stall < 0.3 * (true[-1] - true[0]) and step / tick > 4:
        assert found is not None
        assert found.tick == tick


@given(
    st.floats(0.05, 0.5),
    st.lists(st.tuples(st.floats(0.0, 12.0), st.floats(0.3, 8.0)), max_size=4),
    st.integers(0, 10**6),
)
def test_a_name_that_tells_a_clocks_unit_is_believed_whatever_stalls(step: float, stalls: list[tuple[float, float]], seed: int) -> None:  # fmt: skip
    throws = np.random.default_rng(seed)
    true = np.cumsum(np.full(60, step) * throws.uniform(0.9, 1.1, 60)) + 5.0
    arrivals = stalled(true + throws.exponential(0.004, 60), [(5.0 + begin, length) for begin, length in stalls])
    for heard in (10, 20, 40, 60):
        values = np.round(true[:heard] * 1e6)
        found = clock_of(
            "us", "", "number", pace_of(values, arrivals[:heard]), np.diff(values), alone=False, paced=True
        )
        assert found is not None
        assert found.tick == 1e-6


@given(st.floats(2.0, 400.0), st.floats(0.01, 0.2), st.integers(0, 10**6))
def test_a_ramp_at_no_units_pace_is_no_clock(slope: float, step: float, seed: int) -> None:
    throws = np.random.default_rng(seed)
    arrivals = np.arange(300) * step + throws.exponential(0.003, 300)
    values = np.round(1000 + slope * np.arange(300) + throws.normal(0, 0.2 * slope, 300))
    pace = pace_of(values, arrivals)
    near = any(abs(slope / step * unit - 1.0) < 0.1 for unit in (1.0, 1e-3, 1e-6))
    if not near:
        assert clock_of("column 1", "", "number", pace, np.diff(values), alone=False, paced=True) is None


def test_ticks_of_a_fixed_length_are_a_clock_where_their_name_says_so() -> None:
    found = format_of([b"ticks;light", *lines_of(lambda k: f"{16 * k // 10};{577 + NOISE[k]:.0f}", 200)], every=0.1)
    assert roles(found) == ["clock", "channel"]
    assert found.columns[0].tick == 0.0625


# the currency


@given(st.lists(st.integers(-(10**6), 10**6), min_size=3, max_size=60).filter(lambda each: len(set(each)) > 2))
def test_bits_are_never_less_than_nothing_and_less_for_what_stands_still(values: list[int]) -> None:
    series = np.array(values, float)
    assert numbers_bits(np.full(len(values), series[0])) <= numbers_bits(series) + 1e-6
    texts = [number_text(str(value), False) for value in values]
    assert series_bits([each for each in texts if each is not None]) > 0


def test_words_that_come_again_cost_less_than_new_ones() -> None:
    assert words_bits(["open", "closed"] * 20) < words_bits([f"w{k}" for k in range(40)])
    assert as_lines([b"a", b"b"])[1][1] == 2


def test_a_port_that_relays_sixteen_kits_is_read_once_not_once_for_each() -> None:
    """Counted in calls, which no other load on the machine changes."""

    def calls(kits: int) -> int:
        lines = [
            b"K%d;%d;%.1f" % (k % kits + 1, 8000 + (k % kits) * 7919 % 4001 + k * k * 7 % 41, 21.4) for k in range(1200)
        ]
        chunks = [Stamped(0.1 * at, b"\n".join(lines[at * 20 : at * 20 + 20]) + b"\n") for at in range(60)]
        port, own, made = Chain(check((), {})), [], 0
        for chunk in chunks[:30]:
            port.feed([chunk])
        format = port.reader.format
        assert format is not None
        port.read_as(msgspec.structs.replace(format, by_hand=True))  # nothing is judged from here on
        if kits > 1:
            assert format.shared
            own = [Chain(check((), {}), (), msgspec.structs.replace(format, only=f"K{k}")) for k in range(1, kits + 1)]

        def count(_: object, event: str, __: object) -> None:
            nonlocal made
            made += event == "call"

        sys.setprofile(count)
        for chunk in chunks[30:]:
            flow = port.feed([chunk])
            for each in own:
                each.share(flow.heard, port)
        sys.setprofile(None)
        return made

    assert calls(16) < 12 * calls(1), "sixteen clocks, but one reading of the lines"
