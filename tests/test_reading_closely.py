"""Reading looked at closely: templates, spans, kinds of values, growth of formats, health of columns, what is proposed."""

from __future__ import annotations

import functools
import json
import math
import re

import msgspec
import numpy as np
import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from common_bench.model.block import Block, Stamped
from common_bench.model.stream import Column, StreamFormat
from common_bench.reading.dialects import line_reader, long_way
from common_bench.reading.format_finding import is_words
from common_bench.reading.health import column_health, mains_hum, odd_number, robust_noise
from common_bench.reading.line_templates import MOST_MOULDS, LineTemplates
from common_bench.reading.lines import LineCutter
from common_bench.reading.naming import names_in
from common_bench.reading.plain import lines_with_other_bytes, plain_table
from common_bench.reading.reader import Reader
from common_bench.reading.senml import senml_records
from common_bench.reading.spans import spans_of
from common_bench.reading.values import clock_seconds, kind_of, value_of
from common_bench.standins.dialects import SPEECHES
from common_bench.standins.worlds.swinging_bottles import WORLD, BottleKit
from heard import all_read, all_told, format_of_lines, now_read, paced

NONE = frozenset(["", "nan"])


def lines_of(dialect: str, seconds: float = 3.0, seed: int = 9) -> list[bytes]:
    kit = BottleKit(WORLD.benches(1)[0], seed, dialect=dialect)
    kit.restart(0.0)
    return [line for line in re.split(rb"[\r\n]+", kit.until(seconds)) if line]


@functools.cache
def format_of(dialect: str) -> StreamFormat:
    reader, lines = Reader(), lines_of(dialect)
    for chunk in paced(b"\n".join(lines) + b"\n", [], 0.02):
        reader.feed([chunk])
    assert reader.format is not None
    return reader.format


DIALECTS = [name for name in SPEECHES if name != "on-change"]


def same(one: list | None, other: list | None) -> bool:
    if one is None or other is None:
        return one is other
    rows = list(zip(one, other, strict=True))
    return len(one) == len(other) and all(
        a.kit == b.kit and a.shift == b.shift and np.array_equal(a.values, b.values, equal_nan=True) for a, b in rows
    )


@given(
    st.sampled_from(sorted(DIALECTS)),
    st.integers(0, 10**6),
    st.lists(st.tuples(st.integers(0, 60), st.sampled_from([b"hello there", b"\xf8\x00 2\x81", b"", b"1;2", b"[g] go"])), max_size=6),
    st.lists(st.tuples(st.integers(1, 200), st.sampled_from([0.0, 0.0, 0.02, 1.5])), min_size=1, max_size=60),
    st.lists(st.integers(1, 9), min_size=1, max_size=30),
)  # fmt: skip
@example("check-digits", 0, [(8, b"1;2"), (0, b"hello there"), (0, b"hello there")], [(1, 0.0)], [1])
def test_no_cut_matters_in_any_dialect(
    name: str, seed: int, between: list[tuple[int, bytes]], chunks: list[tuple[int, float]], together: list[int]
) -> None:
    """Same bytes and same stamps, words and noise and stalls among them: the same blocks, notes and counts."""
    lines = lines_of(name, 1.2, seed)
    for place, other in between:
        lines.insert(min(place, len(lines)), other)
    data, at, stamped = b"\n".join(lines) + b"\n", 0.0, []
    while data:
        size, later = chunks[len(stamped) % len(chunks)]
        at += later
        stamped.append(Stamped(at, data[:size]))
        data = data[size:]
    whole, one_by_one = Reader(), Reader()
    one = [whole.feed(stamped)]
    other, place = [], 0
    while place < len(stamped):
        many = together[len(other) % len(together)]
        halves = [
            Stamped(c.at, part) for c in stamped[place : place + many] for part in (c.data[:3], c.data[3:]) if part
        ]
        other.append(one_by_one.feed(halves))
        place += many
    blocks = [all_read(each) for each in (one, other)]
    for what in ("t", "clock", "arrival", "offset", "gap_before", "clock_u"):
        joined = [np.concatenate([getattr(b, what) for b in each] or [np.empty(0)]) for each in blocks]
        np.testing.assert_array_equal(*joined, err_msg=what)
    for channel in {name for block in blocks[0] for name in block.channels}:
        joined = [np.concatenate([b.channels[channel] for b in each if channel in b.channels]) for each in blocks]
        np.testing.assert_array_equal(*joined, err_msg=channel)
    assert all_told(one) == all_told(other)
    assert (whole.lines, whole.readings, whole.kits) == (one_by_one.lines, one_by_one.readings, one_by_one.kits)
    assert whole.format == one_by_one.format


# templates


@given(st.sampled_from(sorted(DIALECTS)), st.integers(0, 10**6), st.data())
def test_a_mould_reads_what_the_long_way_reads_and_nothing_else(name: str, seed: int, data: st.DataObject) -> None:
    format = format_of(name)
    own, long = line_reader(format), long_way(format)
    for line in lines_of(name, 0.6, seed):
        own(line)
        at = data.draw(st.integers(0, len(line)))
        other = data.draw(st.sampled_from([b"", b"7", b"-", b".", b" ", b"e", b"\xe2\x88\x92", line[at : at + 1] * 2]))
        changed = line[:at] + other + line[at + 1 :]
        assert same(own(changed), long(changed)), changed


def test_moulds_are_kept_within_a_limit() -> None:
    format = format_of("names-colon")
    templates = LineTemplates(format, long_way(format))
    for gaps in range(1000):
        templates.read(b"load:1" + b" " * (gaps % 400) + b"temp:2 hum:3")
    assert 100 < len(templates) <= MOST_MOULDS


def test_numbers_that_stand_for_no_value_are_told_in_any_writing() -> None:
    for name in ("semicolons", "names-colon", "json", "spaces"):
        format = format_of(name)
        aside = msgspec.structs.replace(format, no_value=(*format.no_value, "-127"))
        line = next(line for line in reversed(lines_of(name)) if line_reader(format)(line))
        changed = re.sub(rb"21\.[0-9]+", b"-127.00", line)
        assert changed != line
        at = [c.role for c in format.columns].index("channel") + 1
        plain, marked = (line_reader(f)(changed)[0].values[at] for f in (format, aside))
        assert plain == -127.0
        assert math.isnan(marked)


def test_words_between_rows_cost_only_their_own_lines() -> None:
    lines = [b"1;2;3"] * 40
    lines[7], lines[23] = b"hello there", b"again: x"
    piece = LineCutter().feed([Stamped(0.0, b"\n".join(lines) + b"\n")])[0]
    assert lines_with_other_bytes(piece, ";").tolist() == [7, 23]
    format = format_of_lines([b"1;2;3"] * 6)
    heard = Reader(format).feed([Stamped(0.0, b"\n".join(lines) + b"\n")])
    assert heard.readings == 38
    assert [told.text for told in heard.other_lines] == ["hello there", "again: x"]
    assert [len(block) for block in heard.blocks] == [7, 15, 16], "what lies between is read at once"


# spans


@given(st.sampled_from(sorted(DIALECTS)), st.integers(0, 10**6))
def test_the_pieces_of_a_line_are_the_line_again_and_name_the_columns(name: str, seed: int) -> None:
    format = format_of(name)
    for line in lines_of(name, 0.5, seed)[-6:]:
        text = line.decode("latin-1" if format.latin else "utf-8")
        spans = spans_of(text, format)
        assert "".join(span.text for span in spans) == text
        rows = line_reader(format)(line)
        if rows and name not in ("senml", "on-off", "date"):
            for span in spans:
                if span.column is not None and format.columns[span.column].kind == "number":
                    number = float(re.sub(r"[^0-9.eE+-]", "", span.text.replace(",", ".").rstrip("CVN%")) or "nan")
                    assert number == pytest.approx(rows[0].values[span.column])


@given(st.text(max_size=80), st.sampled_from(sorted(DIALECTS)))
def test_no_text_makes_the_pieces_fail(text: str, name: str) -> None:
    assert "".join(span.text for span in spans_of(text, format_of(name))) == text


# values


@pytest.mark.parametrize(
    ("text", "kind", "comma", "value"),
    [
        ("21.4", "number", False, 21.4), ("21,4", "number", True, 21.4), ("−3", "number", False, -3.0), (".5", "number", False, 0.5),
        ("5.", "number", False, 5.0), ("1e3", "number", False, 1000.0), ("21.4C", "number", False, 21.4), ("40 %", "number", False, 40.0),
        ("0x1F", "hexadecimal", False, 31.0), ("1F3A", "hexadecimal", False, 7994.0), ("ON", "on/off", False, 1.0), ("closed", "on/off", False, 0.0),
        ("1", "on/off", False, 1.0), ("10:15:32.5", "time", False, 36932.5), ("1970-01-02 00:00:01", "time", False, 86401.0),
        ("01.01.1970 00:00:10", "time", False, 10.0), ("1970-01-01T01:00:00+01:00", "time", False, 0.0),
    ],
)  # fmt: skip
def test_a_field_is_the_number_that_it_says(text: str, kind: str, comma: bool, value: float) -> None:
    assert value_of(text, kind, comma, NONE) == value  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("text", "kind"),
    [
        ("1_000", "number"), ("inf", "number"), ("1e999", "number"), ("١٢", "number"), ("1.2.3", "number"), ("12 apples", "number"),
        ("0xZZ", "hexadecimal"), ("maybe", "on/off"), ("25:99", "time"), ("2026-13-45 00:00:00", "time"), ("21.4 N m", "number"), ("10³", "number"), ("³", "on/off"),
    ],
)  # fmt: skip
def test_what_is_no_value_of_its_kind_is_none(text: str, kind: str) -> None:
    assert value_of(text, kind, False, NONE) is None  # type: ignore[arg-type]


@given(st.floats(allow_nan=False, allow_infinity=False))
def test_every_number_that_is_written_is_read_to_the_last_bit(value: float) -> None:
    assert value_of(repr(value), "number", False, NONE) == value
    assert kind_of(repr(value), False) == ("number", "")


@given(st.text(max_size=40))
def test_no_field_makes_the_kinds_fail(text: str) -> None:
    kind_of(text, True)
    clock_seconds(text)
    for kind in ("number", "hexadecimal", "on/off", "time", "text"):
        found = value_of(text, kind, False, NONE)  # type: ignore[arg-type]
        assert found is None or found - found == 0 or math.isnan(found)


@pytest.mark.parametrize(
    ("line", "found"),
    [
        (b"ms;load;temp (\xc2\xb0C)", [("ms", ""), ("load", ""), ("temp", "°C")]), (b"# a;b [V]", [("a", ""), ("b", "V")]),
        (b"temp_C;t_ms;pull_N", [("temp", "°C"), ("t_ms", ""), ("pull", "N")]), (b"U/V;I/mA", [("U", "V"), ("I", "mA")]),
        (b"names: a;b", [("a", ""), ("b", "")]), (b"1;2", None), (b"a;;b", None), (b";", None), (b"", None), (b"a;b c!;d", None),
    ],
)  # fmt: skip
def test_a_line_of_names_gives_names_and_units(line: bytes, found: list | None) -> None:
    assert names_in(line, ";") == found


# SenML


NAMES = st.sampled_from(["load", "temp", "hum"])


@given(
    st.lists(st.tuples(NAMES, st.floats(-1e6, 1e6), st.integers(0, 50)), min_size=1, max_size=12), st.floats(-10, 10)
)
def test_senml_base_fields_count_for_all_that_follow(records: list[tuple[str, float, int]], base: float) -> None:
    """RFC 8428, 4.1: base name, time and value are put before or added to those of the records after them."""
    pack = [{"n": name, "v": value, "t": late} for name, value, late in records]
    pack[0] |= {"bn": "kit:", "bt": 1.7e9, "bv": base}
    found = senml_records(pack)
    assert found is not None
    for (name, value, late), each in zip(records, found, strict=True):
        assert each.name == f"kit:{name}"
        assert each.value == base + value
        assert each.time == 1.7e9 + late
    assert senml_records([{"v": 1}]) is None
    assert senml_records("text") is None
    assert senml_records([]) is None


def test_a_pack_in_an_unusual_form_is_read_like_the_usual_one() -> None:
    usual = [{"bn": "k:", "n": "a", "v": 1.5}, {"n": "b", "v": 2}]
    lines = [json.dumps(usual).encode()] * 3
    format = format_of_lines(lines)
    read = line_reader(format)
    strange = json.dumps([{"bn": "k:", "n": "a", "v": 1.5, "u": "N", "extra": {"x": 1}}, {"n": "b", "bv": 1, "v": 1}])
    assert same(read(lines[0]), read(strange.encode()))
    assert read(b'[{"n":"unknown","v":1}]') is None
    assert read(b'[{"n":"a","v":"text"}]') is None
    assert read(b"[" * 5000) is None


# growth


def test_longer_rows_add_columns_only_where_they_come_again() -> None:
    for more, columns in (
        ([b"513;21.5;40", b"514;21.5;41"], 3),
        ([b"513;21.5;40", b"514;21.5"], 2),
        ([b"513;x;40", b"514;21.5;41"], 2),
        ([b"513;21.5;hello", b"514;21.5;world"], 2),
    ):
        reader = Reader()
        for chunk in paced(b"\n".join([*[b"512;21.4", b"513;21.5"] * 10, *more]) + b"\n", [], 0.02):
            reader.feed([chunk])
        assert reader.format is not None
        assert len(reader.format.columns) == columns, more


def test_a_kit_that_changes_its_dialect_is_worked_out_anew() -> None:
    reader = Reader()
    reader.feed([Stamped(0.0, b"512;21.4\n" * 10)])
    heard = reader.feed([Stamped(1.0, b"load=512 temp=21.4\n" * 40)])
    assert reader.format is not None
    assert reader.format.dialect == "named"
    assert heard.readings > 15
    assert reader.unreadable + reader.notes <= 25


NAMED_ONCE = {"json-array", "relay-column", "seconds", "tabs"}  # what a column is stands in the line of names


@settings(max_examples=60)
@given(st.sampled_from(sorted(set(DIALECTS) - {"later-column", "micros"})), st.integers(0, 10**6), st.integers(1, 400))
def test_wherever_a_stream_is_joined_it_is_read_as_from_its_start(name: str, seed: int, start: int) -> None:
    """The first line is half a line, and which kinds of lines come first is chance."""
    data = b"\n".join(lines_of(name, 8.0, seed))[start:] + b"\n"
    reader, whole, blocks = Reader(), format_of(name), list[Block]()
    reader.join()
    for chunk in paced(data, range(0, len(data), 97), 0.02):
        blocks = now_read(blocks, reader.feed([chunk]))
    assert reader.format is not None
    assert (reader.format.dialect, reader.format.decimal_comma) == (whole.dialect, whole.decimal_comma)
    assert len(reader.format.columns) == len(whole.columns)
    if name not in NAMED_ONCE:
        assert [(c.role, c.kind) for c in reader.format.columns] == [(c.role, c.kind) for c in whole.columns]
        assert reader.clock.restarts == 0, "no clock value has lost its beginning"
    assert reader.unreadable <= 4
    if name in ("one-number", "no-clock"):
        first = np.concatenate([next(iter(block.channels.values())) for block in blocks])
        assert np.nanmin(first) > 8000, "half a number is no number"


def test_a_format_set_by_hand_counts_from_the_next_line() -> None:
    reader = Reader()
    for at in range(8):
        reader.feed([Stamped(2.0 * at, b"21,4\n")])
    assert reader.format is not None
    assert reader.format.question
    assert reader.format.other is not None
    reader.read_as(reader.format.other)
    heard = reader.feed([Stamped(20.0, b"21,5\n")])
    assert {name: values.tolist() for name, values in heard.blocks[0].channels.items()} == {"column 1": [21.0], "column 2": [5.0]}  # fmt: skip


def test_only_one_kits_lines_are_read_where_a_port_is_shared() -> None:
    lines = b"K1;512;21.4\nK2;498;20.1\nK1;513;21.5\nK2;499;20.2\n" * 8
    reader = Reader()
    reader.feed([Stamped(0.0, lines)])
    assert reader.format is not None
    one = Reader(msgspec.structs.replace(reader.format, only="K2"))
    heard = one.feed([Stamped(0.0, lines)])
    assert np.concatenate([b.channels["column 1"] for b in heard.blocks]).tolist() == [498.0, 499.0] * 8
    assert one.unreadable == 0
    numbers = b"id;load\n" + b"1;10\n2;20\n1;11\n2;21\n1;12\n2;22\n1;13\n2;23\n" * 3
    plain = Reader()
    plain.feed([Stamped(0.0, numbers)])
    assert plain.format is not None
    two = Reader(msgspec.structs.replace(plain.format, only="2"))
    heard = two.feed([Stamped(0.0, numbers)])
    assert np.concatenate([b.channels["load"] for b in heard.blocks]).tolist() == [20.0, 21.0, 22.0, 23.0] * 3


@given(st.text(max_size=60))
def test_words_and_noise_are_told_apart(text: str) -> None:
    assume(all(each.isprintable() for each in text))
    assert is_words(f"hello {text}".encode())
    assert not is_words(bytes(range(128, 200)))


# health


def test_noise_is_blind_to_the_odd_step_and_sees_what_most_jumps_do() -> None:
    dice = np.random.default_rng(3)
    values = dice.normal(0, 7, 4000)
    values[2000:] += 1e5
    assert robust_noise(np.abs(np.diff(values))) == pytest.approx(7, rel=0.06)
    steady = np.zeros(100)
    steady[50] = 1
    assert 0 < robust_noise(np.abs(np.diff(steady))) < 1
    assert robust_noise(np.array([])) == 0.0


@pytest.mark.parametrize(("rate", "mains", "told"), [(200.0, 50.0, 50.0), (200.0, 60.0, 60.0), (130.0, 50.0, 50.0), (1000.0, 60.0, 60.0), (50.0, 50.0, 0.0), (100.0, 50.0, 50.0)])  # fmt: skip
def test_hum_is_found_where_sampling_folds_it_to(rate: float, mains: float, told: float) -> None:
    t = np.arange(0, 8, 1 / rate)
    values = 5000 + 40 * np.sin(2 * np.pi * mains * t + 0.7) + np.random.default_rng(1).normal(0, 8, len(t))
    assert mains_hum(t, values) == told
    quiet = 5000 + np.random.default_rng(1).normal(0, 8, len(t))
    assert mains_hum(t, quiet) == 0.0
    drifting = quiet + 30 * t
    assert mains_hum(t, drifting) == 0.0


def test_odd_numbers_are_proposed_only_where_they_stand_far_away_and_come_again() -> None:
    assert odd_number(np.array([21.0, 22.0, -127.0, 21.5, -127.0, 21.7, -127.0, 21.2])) == -127.0
    assert odd_number(np.array([21.0, 22.0, -127.0, 21.5, 21.7, 21.2])) is None
    assert odd_number(np.array([998.0, 999.0, 1001.0, 999.0, 1000.0, 999.0, 997.0])) is None
    assert odd_number(np.array([-127.0] * 5)) is None


def test_a_column_is_judged_by_what_it_shows() -> None:
    t = np.arange(400) * 0.02
    dice = np.random.default_rng(5)
    good = np.round(5000 + dice.normal(0, 4, 400))
    assert column_health("a", t, good, (4980, 5020)).cause == ""
    assert column_health("a", t, np.full(400, 512.0), (512, 512)).cause == "stuck"
    assert column_health("a", t, np.where(dice.random(400) < 0.8, 1023.0, 1000.0), (0, 1023)).cause == "saturated"
    assert column_health("a", t, np.zeros(400), (0, 900)).cause == "saturated"
    assert column_health("a", t, np.zeros(400), (0, 0)).cause == "stuck"
    assert column_health("a", t, np.round(dice.uniform(0, 4095, 400)), (0, 4095)).cause == "floating"
    holes = good.copy()
    holes[::3] = np.nan
    found = column_health("a", t, holes, (4980, 5020))
    assert found.cause == "missing"
    assert found.missing == pytest.approx(1 / 3, abs=0.01)
    assert column_health("a", t[:5], good[:5], (0, 1)).words == "listening"
    assert column_health("a", t[:0], good[:0], (np.nan, np.nan)).words == "no value yet"
    assert column_health("a", t, good, (4980, 5020)).rate == pytest.approx(50)


# the whole way


@given(st.lists(st.sampled_from(["20;5;1.5", "40;;", ";nan;", "words here", "60;6", "1;2;3;4", "\xff\xfe", "80;-7e3;+.5"]), max_size=40))  # fmt: skip
def test_many_at_once_and_one_by_one_agree_on_any_mixture(rows: list[str]) -> None:
    known = format_of_lines([b"20;5;1.5"] * 5, [b"ms;load;temp"])
    lines = [row.encode("latin-1") for row in rows]
    whole = Reader(known).feed([Stamped(0.0, b"\r\n".join(lines) + b"\r\n")])
    single = Reader(known)
    pieces = [single.feed([Stamped(0.0, line + b"\r\n")]) for line in lines]
    assert whole.readings == sum(each.readings for each in pieces)
    for name in ("load", "temp"):
        one = np.concatenate([b.channels[name] for b in whole.blocks] or [np.empty(0)])
        other = np.concatenate([b.channels[name] for each in pieces for b in each.blocks] or [np.empty(0)])
        np.testing.assert_array_equal(one, other)


@given(st.lists(st.lists(st.integers(-999, 9999), min_size=3, max_size=3), min_size=8, max_size=30), st.sampled_from([";", ",", "\t", "|", " "]), st.integers(0, 3))  # fmt: skip
def test_spaces_around_separators_change_nothing(rows: list[list[int]], separator: str, spaces: int) -> None:
    gap = " " * spaces
    format = StreamFormat(separator, tuple(Column(name) for name in "abc"))
    padded = [(gap + separator + gap).join(map(str, row)).encode() for row in rows]
    piece = LineCutter().feed([Stamped(0.0, b"\n".join(padded) + b"\n")])[0]
    table = plain_table(piece, format)
    assert table is not None
    np.testing.assert_array_equal(table, np.array(rows, float))
    assert [line_reader(format)(line)[0].values for line in padded] == table.tolist()


@given(
    st.integers(3, 95),
    st.sampled_from([b"97409760;5;1", b"7;5;1", b"9" * 60 + b";5;1", b"999999999999;5;1"]),
    st.integers(1, 40),
)
def test_one_damaged_clock_value_moves_no_other_reading(row: int, damaged: bytes, step: int) -> None:
    lines = [b"%d;5;1" % (1000 + at * 20) for at in range(100)]
    clean = Reader(format_of("semicolons"))
    broken = Reader(format_of("semicolons"))
    lines_too = [*lines[:row], damaged, *lines[row + 1 :]]
    times = []
    for reader, sent in ((clean, lines), (broken, lines_too)):
        blocks = []
        for low in range(0, 100, step):
            chunks = [Stamped(0.02 * at, line + b"\n") for at, line in enumerate(sent[low : low + step], low)]
            blocks = now_read(blocks, reader.feed(chunks))
        times.append(np.concatenate([block.t for block in blocks]))
    others = np.arange(100) != row
    np.testing.assert_allclose(times[1][others], times[0][others], atol=2e-3)
    assert times[1][row] == pytest.approx(0.02 * row, abs=0.03)
    assert broken.clock.restarts == 0


def test_a_clock_that_is_set_forward_begins_a_new_stretch() -> None:
    reader = Reader(format_of("semicolons"))
    chunks = [Stamped(0.02 * at, b"%d;5;1\n" % (at * 20 + (0 if at < 50 else 10**7))) for at in range(150)]
    t = np.concatenate([block.t for block in reader.feed(chunks).blocks])
    assert reader.clock.restarts == 1
    np.testing.assert_allclose(t, 0.02 * np.arange(150), atol=3e-3)
