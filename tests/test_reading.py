"""Reading: bytes in any chunks give the same blocks; dialects, clocks, rubbish."""

from __future__ import annotations

import random
import re

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.model.block import Block, Stamped
from common_bench.model.stream import ClockState
from common_bench.reading.clock import ClockMap
from common_bench.reading.heard import Heard
from common_bench.reading.lines import LONGEST_LINE, LineCutter
from common_bench.reading.plain import plain_table
from common_bench.reading.plain_loops import plain_numbers
from common_bench.reading.reader import Reader, values_in
from heard import all_read, all_told, format_of_lines, paced, stalled


def stamped(data: bytes, cuts: list[int], rate: float = 750.0) -> list[Stamped]:
    """The bytes in chunks; each byte's stamp depends on its place alone, in steps of 64 bytes."""
    places = sorted({0, len(data), *(cut % (len(data) + 1) for cut in cuts), *range(0, len(data), 64)})
    return [Stamped((low // 64) * 64 / rate, data[low:high]) for low, high in zip(places, places[1:], strict=False)]


def read(chunks: list[Stamped], groups: list[int], reader: Reader | None = None) -> tuple[Reader, list[Heard]]:
    """Feeds chunks, several at once as `groups` say."""
    reader = reader or Reader()
    heard, at = [], 0
    sizes = iter(groups)
    while at < len(chunks):
        size = max(1, next(sizes, 1))
        heard.append(reader.feed(chunks[at : at + size]))
        at += size
    return reader, heard


def joined_columns(blocks: list[Block]) -> dict[str, np.ndarray]:
    if not blocks:
        return {}
    columns = {
        name: np.concatenate([getattr(block, name) for block in blocks])
        for name in ("t", "clock", "arrival", "offset", "gap_before", "clock_u")
    }
    for name in blocks[0].channels:
        columns[f"channel {name}"] = np.concatenate(
            [block.channels.get(name, np.full(len(block), np.nan)) for block in blocks]
        )
    return columns


def kit_stream(rows: int, seed: int, *, rubbish: bool = True) -> bytes:
    """Rows of a kit with words, names, restarts, missing values, half lines and noise bytes among them."""
    dice = random.Random(seed)
    out, clock = [b"4;21\r\n", b"swing kit v3\r\n", b"ms;load;temp\r\n"], 0
    for _ in range(rows):
        clock += 20
        out.append(b"%d;%d;%.1f\r\n" % (clock, dice.randrange(8000, 400_000), dice.uniform(20, 22)))
        event = dice.random()
        if rubbish and event < 0.02:
            out.append(
                dice.choice(
                    [
                        b"hello there\r\n",
                        b"ms;load;temp\r\n",
                        b"12;nan;\r\n",
                        b"1842\xf8\x00 2\x81\n",
                        b"\r\n",
                        b"1;2\r\n",
                    ]
                )
            )
        elif rubbish and event < 0.025:
            clock = 0
        elif rubbish and event < 0.03:
            clock += 700
        elif rubbish and event < 0.032:
            out.append(b"9" * (LONGEST_LINE + dice.randrange(3)) + b"\n")
    return b"".join(out)


@given(st.integers(0, 10**6), st.lists(st.integers(0, 10**6), max_size=40), st.lists(st.integers(1, 30), max_size=60))
def test_chunks_never_matter(seed: int, cuts: list[int], groups: list[int]) -> None:
    data = kit_stream(150, seed)
    whole_reader, whole = read(stamped(data, []), [10**6])
    reader, pieces = read(stamped(data, cuts), groups)
    one, other = joined_columns(all_read(whole)), joined_columns(all_read(pieces))
    assert one.keys() == other.keys()
    for name in one:
        np.testing.assert_array_equal(one[name], other[name], err_msg=name)
    assert all_told(whole) == all_told(pieces)
    assert (reader.lines, reader.readings, reader.unreadable, reader.notes) == (
        whole_reader.lines, whole_reader.readings, whole_reader.unreadable, whole_reader.notes,
    )  # fmt: skip
    assert reader.lines == reader.readings + reader.unreadable + reader.notes


number_text = st.one_of(
    st.integers(-(10**9), 10**9).map(str),
    st.floats(allow_nan=False, allow_infinity=False, width=32).map(repr),
    st.sampled_from(["1.", ".5", "+3", "1e5", "-2.5E-3", "1-2", "1.2.3", "e5", "--4", "1e999", "", "nan"]),
)


@given(
    st.lists(st.tuples(number_text, number_text, number_text), min_size=8, max_size=40),
    st.sampled_from([";", ",", "\t"]),
)
def test_reading_many_lines_at_once_equals_reading_them_one_by_one(rows: list[tuple[str, ...]], separator: str) -> None:
    lines = [separator.join(row).encode() for row in rows]
    known = format_of_lines([separator.join("123").encode()] * 5)
    fast = Reader(known).feed([Stamped(1.0, b"\n".join(lines) + b"\n")])
    slowly = Reader(known)
    slow = [slowly.feed([Stamped(1.0, line + b"\n")]) for line in lines]
    one, other = joined_columns(fast.blocks), joined_columns(all_read(slow))
    for name in [n for n in one if n.startswith("channel")]:
        np.testing.assert_array_equal(one[name], other[name])
    assert fast.unreadable == sum(each.unreadable for each in slow)


def test_the_quick_way_is_taken_for_plain_lines_and_refuses_all_others() -> None:
    known = format_of_lines([b"1;2;3"] * 5)
    good = LineCutter().feed([Stamped(0.0, b"1;2;3\r\n" * 50)])[0]
    assert plain_table(good, known) is not None
    for bad in (b"1;;3\n", b"1;2\n", b"1;2;3;4\n", b"1;2;x\n", b"1;2 3\n", b";1;2\n1;2;3;\n"):
        piece = LineCutter().feed([Stamped(0.0, b"1;2;3\n" * 9 + bad + b"\n")])[0]
        assert plain_table(piece, known) is None


@given(st.binary(max_size=3000), st.lists(st.integers(0, 3000), max_size=8))
def test_no_bytes_make_the_reader_fail_or_invent(data: bytes, cuts: list[int]) -> None:
    reader, heard = read(stamped(data, cuts), [])
    assert reader.lines == len(re.findall(rb"\r\n|\r|\n", data))
    for block in all_read(heard):
        for row, offset in enumerate(block.offset.tolist()):
            line = re.split(rb"[\r\n]", data[offset:])[0]
            assert reader.format is not None
            kept = values_in(line, reader.format)
            assert kept is not None, f"a reading was made of {line!r}"
            shown = [values[row] for values in block.channels.values()]
            assert all(value != value or value in kept for value in shown)


@pytest.mark.parametrize(
    ("text", "separator", "columns", "roles"),
    [
        ("ms;load;temp\n" + "20;5;1.5\n" * 6, ";", ("ms", "load", "temp"), ("clock", "channel", "channel")),
        ("time_s,voltage\n" + "".join(f"{k / 10},{k}\n" for k in range(6)), ",", ("time_s", "voltage"), ("clock", "channel")),
        ("force (N)\tangle (°)\n" + "1.5\t-20\n" * 6, "\t", ("force", "angle"), ("channel", "channel")),
        ("1.5 -20   7\n" * 6, " ", ("column 1", "column 2", "column 3"), ("channel",) * 3),
        ("".join(f"{k * 20};{k}\n" for k in range(1, 40)), ";", ("column 1", "column 2"), ("clock", "channel")),
        ("21.5\n" * 6, ";", ("column 1",), ("channel",)),
        ("temp,temp\n" + "1,2\n" * 6, ",", ("temp", "temp 2"), ("channel", "channel")),
        ("Weigh!\nus;raw\n" + "1,2\n" + "5;6;\n" * 6, ";", ("us", "raw"), ("clock", "channel")),
    ],
)  # fmt: skip
def test_a_format_is_worked_out_by_looking(
    text: str, separator: str, columns: tuple[str, ...], roles: tuple[str, ...]
) -> None:
    reader = Reader()
    for chunk in paced(text.encode(), [], 0.02):
        reader.feed([chunk])
    assert reader.format is not None
    assert tuple(column.name for column in reader.format.columns) == columns
    assert tuple(column.role for column in reader.format.columns) == roles
    assert len(columns) == 1 or reader.format.separator == separator


def test_units_come_from_names_and_missing_values_stay_unknown() -> None:
    reader = Reader()
    heard = reader.feed([Stamped(0.0, b"ms;force (mN);temp\n" + b"20;5;1.5\n" * 5 + b"40;nan;2\n60;;3\n80;7;\n")])
    assert reader.format is not None
    assert reader.format.unit_of("force") == "mN"
    assert reader.format.unit_of("temp") == "°C"
    force = np.concatenate([block.channels["force"] for block in heard.blocks])
    temp = np.concatenate([block.channels["temp"] for block in heard.blocks])
    np.testing.assert_array_equal(force[-3:], [np.nan, np.nan, 7])
    np.testing.assert_array_equal(temp[-3:], [2, 3, np.nan])


def test_a_header_that_comes_again_is_no_reading_and_new_names_are_taken_over() -> None:
    reader = Reader()
    reader.feed([Stamped(0.0, b"ms;load;temp\n" + b"20;5;1.5\n" * 5)])
    again = reader.feed([Stamped(1.0, b"ms;load;temp\n40;6;1.5\n")])
    assert [told.kind for told in again.other_lines] == ["names"]
    other = reader.feed([Stamped(2.0, b"ms;force;temp\n60;7;1.5\n")])
    assert set(other.blocks[0].channels) == {"force", "temp"}
    assert reader.unreadable == 0


def test_a_line_of_a_megabyte_costs_no_memory_and_loses_no_neighbour() -> None:
    reader = Reader()
    reader.feed([Stamped(0.0, b"1;2;3\n" * 6)])
    held = []
    for _ in range(250):
        reader.feed([Stamped(1.0, b"7" * 4096)])
        held.append(len(reader.cutter._tail))
    assert max(held) <= LONGEST_LINE
    after = reader.feed([Stamped(2.0, b"\n4;5;6\n")])
    assert [told.kind for told in after.other_lines] == ["unreadable"]
    assert after.blocks[0].channels["column 2"].tolist() == [5.0]
    assert after.blocks[0].offset.tolist() == [36 + 250 * 4096 + 1]


@given(st.floats(-3e-4, 3e-4), st.integers(0, 10**6))
def test_the_clock_map_finds_the_kits_rate_within_its_uncertainty(drift: float, seed: int) -> None:
    dice = np.random.default_rng(seed)
    true = np.arange(0, 60, 0.02)
    clock = np.floor(true * (1 + drift) * 1000) / 1000
    arrival = true + 5.0 + dice.exponential(0.004, len(true))
    kit = ClockMap(1e-3)
    t, _, u, gaps = kit.map(clock, arrival)
    assert abs(kit.rate * (1 + drift) - 1) < 5 * kit.u_rate
    assert kit.u_rate < 250e-6, "some of that time a machine may have been busy"
    assert (np.diff(t) >= 0).all()
    assert not gaps.any()
    assert np.abs(t[1500:] - true[1500:] - 5).max() < 0.012


@given(
    st.floats(-3e-4, 3e-4),
    st.lists(st.tuples(st.floats(0, 60), st.floats(0.05, 3.0)), max_size=8),
    st.sampled_from([0.02, 0.1]),
    st.integers(0, 10**6),
)
def test_a_link_or_a_machine_that_stalls_bends_no_time(
    drift: float, stalls: list[tuple[float, float]], step: float, seed: int
) -> None:
    dice = np.random.default_rng(seed)
    true = np.arange(0, 90, step) + 5.0
    clock = np.floor((true - 5.0) * (1 + drift) * 1000) / 1000
    arrival = stalled(true + dice.exponential(0.003, len(true)), [(5.0 + begin, length) for begin, length in stalls])
    arrival = np.maximum.accumulate(arrival)
    kit = ClockMap(1e-3)
    t, _, _, gaps = kit.map(clock, arrival)
    assert kit.restarts == 0, "a stall is no restart"
    assert not gaps.any(), "every line came: nothing is missing"
    assert abs(kit.rate * (1 + drift) - 1) < 6 * kit.u_rate
    assert kit.u_rate <= 5e-4
    steps = np.diff(t) / step
    assert steps.min() > 0.4
    assert steps.max() < 1.7
    assert np.abs(t[true > 85] - true[true > 85]).max() < 0.03, "twenty quiet seconds later all is as it was"
    state = kit.hold()
    during = kit.map(clock[-1] + np.arange(1, 100) * step, true[-1] + np.arange(1, 100) * step)[0]
    np.testing.assert_allclose(np.diff(during), state.rate * step, rtol=1e-6)


@given(
    st.floats(-3e-4, 3e-4), st.floats(2.2, 8.0), st.floats(0.2, 20.0), st.sampled_from([0.02, 0.1]),
    st.sampled_from([1.0, 6.0]), st.integers(0, 10**6),
)  # fmt: skip
def test_a_stall_soon_after_a_kit_began_moves_no_reading_before_in_or_behind_it(
    drift: float, begin: float, length: float, step: float, pace: float, seed: int
) -> None:
    """Though most of what is known of it by then came late."""
    dice = np.random.default_rng(seed)
    true = np.arange(0, 40, step) + 5.0
    arrival = stalled(true + dice.exponential(0.003, len(true)), [(5.0 + begin, length)])
    kit = ClockMap(1e-3, ClockState(pace=pace))
    clock = np.floor((true - 5.0) * pace * (1 + drift) * 1000) / 1000
    t, _, _, gaps = kit.map(clock, np.maximum.accumulate(arrival) * pace)
    assert not gaps.any()
    assert np.abs(t / pace - true).max() < 0.06


@given(
    st.floats(-4e-4, 4e-4), st.sampled_from([1.0, -1.0]), st.floats(0.03, 0.5), st.floats(0.5, 20), st.floats(4, 60),
    st.sampled_from([1.0, 8.0]), st.integers(0, 10**6),
)  # fmt: skip
def test_a_machine_that_gets_slower_or_catches_up_is_taken_for_no_clock_that_is_off(
    drift: float, way: float, late: float, lasts: float, seconds: float, pace: float, seed: int
) -> None:
    """Lines that come later and later, or earlier again, by up to half a second look just like a clock that is off."""
    dice = np.random.default_rng(seed)
    true = np.arange(0, seconds, 0.02)
    along = np.clip(true / lasts, 0, 1)
    arrival = true + dice.exponential(0.003, len(true)) + late * (along if way > 0 else 1 - along)
    kit = ClockMap(1e-3, ClockState(pace=pace))
    kit.map(np.floor(true * pace * (1 + drift) * 1000) / 1000, np.maximum.accumulate(arrival) * pace)
    assert abs(kit.rate * (1 + drift) - 1) < 4 * kit.u_rate
    assert kit.u_rate < 0.03


@given(
    st.lists(st.integers(0, 2000), max_size=12),
    st.sampled_from(["restart", "wrap 16", "wrap 32", "gap", "unknown", "stall"]),
)
def test_restarts_wraps_and_gaps_keep_time_in_order_however_blocks_are_cut(cuts: list[int], what: str) -> None:
    true = np.arange(0, 40, 0.02)
    raw = np.round(true * 1000)
    if what == "restart":
        raw[1000:] -= raw[1000]
    elif what.startswith("wrap"):
        raw = (raw + 2.0 ** int(what[5:]) - 20_000) % 2.0 ** int(what[5:])
    elif what == "gap":
        true, raw = np.delete(true, np.s_[900:1000]), np.delete(raw, np.s_[900:1000])
    else:
        raw[[5, 700, 701]] = np.nan
    raw = raw * 1e-3
    arrival = stalled(true + 1.0, [(1.0, 2.5), (9.0, 1.0)] if what == "stall" else [])
    whole = ClockMap(1e-3).map(raw, arrival)
    pieces, kit = [], ClockMap(1e-3)
    borders = sorted({0, len(raw), *(cut for cut in cuts if cut < len(raw))})
    for low, high in zip(borders, borders[1:], strict=False):
        pieces.append(kit.map(raw[low:high], arrival[low:high]))
    for part in range(4):
        np.testing.assert_array_equal(whole[part], np.concatenate([piece[part] for piece in pieces]))
    t, _, _, gaps = whole
    assert (np.diff(t) >= 0).all()
    assert np.abs(t - true - 1.0).max() < (2.6 if what == "stall" else 0.03)
    assert np.flatnonzero(gaps).tolist() == ([900] if what == "gap" else [])
    assert kit.restarts == (what == "restart")


def test_a_held_clock_stands_still_and_goes_on_from_its_kept_state() -> None:
    true = np.arange(0, 30, 0.02)
    raw, arrival = np.round(true * 1.0002 * 1000) / 1000, true + 2 + 0.003 * np.sin(true * 50) ** 2
    live = ClockMap(1e-3)
    live.map(raw[:700], arrival[:700])
    state = live.hold()
    during = live.map(raw[700:], arrival[700:])
    again = ClockMap(1e-3, state, held=True).map(raw[700:], arrival[700:])
    for one, other in zip(during, again, strict=True):
        np.testing.assert_array_equal(one, other)
    np.testing.assert_allclose(np.diff(during[0]), state.rate * np.diff(raw[700:]), atol=1e-12)


@given(st.floats(0.0, 4.0), st.lists(st.integers(700, 2400), max_size=6))
def test_a_restart_during_a_run_whose_first_lines_come_late_finds_its_place(late: float, cuts: list[int]) -> None:
    true = np.arange(0, 50, 0.02)
    raw = np.round(true * 1000) / 1000
    raw[1000:] -= raw[1000]
    arrival = stalled(true + 3.0, [(22.9, late)])
    live = ClockMap(1e-3)
    live.map(raw[:700], arrival[:700])
    state = live.hold()
    during = live.map(raw[700:], arrival[700:])[0]
    assert live.restarts == 1
    assert (np.diff(during) >= 0).all()
    assert np.abs(during[:300] - true[700:1000] - 3.0).max() < 0.01
    assert np.abs(during[-600:] - true[-600:] - 3.0).max() < 0.01, "later lines say when it was"
    again, pieces = ClockMap(1e-3, state, held=True), []
    borders = sorted({700, 2500, *cuts})
    for low, high in zip(borders, borders[1:], strict=False):
        pieces.append(again.map(raw[low:high], arrival[low:high])[0])
    np.testing.assert_array_equal(np.concatenate(pieces), during)


def test_a_known_format_reads_from_the_first_line_on() -> None:
    known = format_of_lines([b"20;2", b"40;2", b"60;2"], [b"ms;load"])
    heard = Reader(known).feed([Stamped(0.5, b"20;7\n")])
    assert heard.blocks[0].channels["load"].tolist() == [7.0]
    assert heard.blocks[0].clock.tolist() == [0.02]


@given(
    st.lists(st.lists(st.from_regex(r"[+-]?([0-9]{1,9}([.][0-9]{0,9})?|[.][0-9]{1,12})", fullmatch=True), min_size=3, max_size=3), min_size=1, max_size=12),
    st.sampled_from([",", ";", "\t", " ", "|"]), st.sampled_from(["\n", "\r\n", "\r"]), st.booleans(),
)  # fmt: skip
def test_compiled_code_reads_plain_numbers_to_the_bits_of_a_correctly_rounded_conversion(
    rows: list[list[str]], mark: str, end: str, trailing: bool
) -> None:
    data = "".join(mark.join(row) + mark * trailing + end for row in rows).encode()
    found = np.empty((len(rows), 3))
    exact = all(len(re.sub(r"^[+\-0.]*", "", each).replace(".", "")) <= 15 for row in rows for each in row)
    assert plain_numbers(np.frombuffer(data, np.uint8), ord(mark), found) or not exact
    if exact:
        assert found.tobytes() == np.array([[float(each) for each in row] for row in rows]).tobytes()
    for damaged in (
        data[:-1] + b"x" + end.encode(),
        data.replace(mark.encode(), b"", 1),
        data + b"1" + end.encode(),
        b"1e3" + data,
    ):
        assert not plain_numbers(np.frombuffer(damaged, np.uint8), ord(mark), found)


@pytest.mark.parametrize("ends", [17.5, 25.0, 30.0])
def test_a_rate_that_was_to_be_looked_at_while_a_run_held_it_is_looked_at_right_after(ends: float) -> None:
    """As on a machine that stood still at first, with runs one after another."""
    kit, dice = ClockMap(0.001), np.random.default_rng(3)
    clock = np.arange(0.0, 34.0, 0.1)
    late = dice.exponential(0.002, len(clock)) + np.where((clock > 3.0) & (clock < 5.0), 5.0 - clock, 0.0)
    arrival = np.maximum.accumulate(100.0 + clock * 1.0003 + late)

    def feed(low: float, high: float) -> None:
        own = (clock >= low) & (clock < high)
        kit.map(clock[own], arrival[own])

    feed(0.0, 15.5)
    before = kit.u_rate
    kit.hold()
    feed(15.5, ends)
    assert kit.u_rate == before, "it stands still during a run"
    kit.release()
    feed(ends, ends + 1.1)
    assert kit.u_rate < before / 2
