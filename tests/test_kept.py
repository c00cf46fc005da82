"""What is kept in the book and in files comes back as it was: rows, plans, formats, addresses of every kind."""

from __future__ import annotations

import contextlib
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.book.book import Book
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.store_rows import calibration_of, calibration_row, finding_of, finding_row, point_of, point_row
from common_bench.links.address import CHOICES, read_address
from common_bench.links.causes import trouble
from common_bench.links.file_link import TAPE_HEAD, tape_text, timed_lines
from common_bench.links.network import lines_of, wildcard_place
from common_bench.model.calibration import Calibration, ReferencePoint
from common_bench.model.measured import Measured
from common_bench.model.plan import AskPlan, CommandPlan, Plan, as_bytes
from common_bench.model.plan_file import plan_from_text, plan_to_text, shipped_plan
from common_bench.model.run import Finding, Share
from common_bench.model.stream import Column, StreamFormat
from common_bench.model.trouble import LinkTrouble, PlanTrouble, sentences

number = st.floats(-1e12, 1e12)
word = st.text(st.characters(codec="utf-8", exclude_categories=["Cs", "Cc"]), max_size=20)
points = st.builds(
    ReferencePoint, word, number, number, number, number, word, st.integers(1, 10**6), number, number, word, st.booleans(),
    st.just(0),
)  # fmt: skip
columns = st.builds(
    Column, word, word, st.sampled_from(["channel", "clock", "kit", "ignored"]), number,
    st.sampled_from(["number", "hexadecimal", "on/off", "time", "text"]), word,
)  # fmt: skip
formats = st.builds(
    StreamFormat, st.sampled_from([";", "\t", " "]), st.lists(columns, max_size=4).map(tuple), st.lists(word, max_size=4).map(tuple),
    st.integers(0, 60), st.sampled_from(["separated", "named", "json", "senml", "tagged"]), st.booleans(), word, word,
    st.sampled_from(["", ".", "\t"]), st.booleans(), number, word,
)  # fmt: skip


@given(points)
def test_a_reference_point_comes_back_as_it_was(point: ReferencePoint) -> None:
    assert point_of({"id": 0, **point_row(point)}) == point


@given(st.lists(number, min_size=2, max_size=2), st.lists(points, max_size=3), number)
def test_a_calibration_comes_back_to_the_last_bit(
    parameters: list[float], kept: list[ReferencePoint], noise: float
) -> None:
    made = Calibration(
        "load",
        "tension",
        "N",
        "straight-line",
        tuple(parameters),
        ((1.0, 0.5), (0.5, 2.0)),
        (0.0, 9.0),
        tuple(kept),
        noise,
    )
    assert calibration_of({"id": 0, **calibration_row(3, made)}) == made


@given(word, number, number, st.lists(st.builds(Share, word, number), max_size=4))
def test_a_finding_comes_back_as_it_was(name: str, value: float, u: float, shares: list[Share]) -> None:
    made = Finding(
        name, Measured(value, u, "s"), (0.0, 20.0), 17, "mean of 17", tuple(shares), "period = mean of swing", 5
    )
    assert finding_of({"id": 0, "run": 5, **finding_row(made)}) == made


@given(formats, formats)
def test_formats_go_to_text_and_back_and_plans_keep_them(one: StreamFormat, other: StreamFormat) -> None:
    asking = msgspec.structs.replace(one, question="which?", other=other)
    assert msgspec.json.decode(msgspec.json.encode(asking), type=StreamFormat) == asking
    plan = Plan("p", formats=(asking,), ask=AskPlan("?\\n", 0.5, 0.2), commands=(CommandPlan("lamp", "L1", "J"),))
    assert plan_from_text(plan_to_text(plan), "here") == plan
    assert one.shape == msgspec.structs.replace(one, no_value=("x",), worked_out_from=3).shape
    assert one.shape != msgspec.structs.replace(one, columns=(*one.columns, Column("more"))).shape


@given(st.text(max_size=300))
def test_no_text_makes_the_reader_of_plans_fail_but_in_words(text: str) -> None:
    with contextlib.suppress(PlanTrouble):
        plan_from_text(text, "here")
    shipped = plan_to_text(shipped_plan("swinging-bottles"))
    assert plan_from_text(shipped, "here") == shipped_plan("swinging-bottles")


def test_what_is_typed_stands_for_the_bytes_that_it_names() -> None:
    assert as_bytes("L1\\r\\n") == b"L1\r\n"
    assert as_bytes("a\\tb°") == "a\tb°".encode()


@given(st.sampled_from(sorted(CHOICES["parity"])), st.sampled_from(sorted(CHOICES["bits"])), st.integers(50, 4_000_000))
def test_every_setting_of_a_port_is_written_as_it_is_read(parity: str, bits: str, speed: int) -> None:
    address = read_address(f"/dev/ttyUSB3?speed={speed}&bits={bits}&parity={parity}")
    assert (address.speed, address.setting("parity"), address.setting("bits")) == (speed, parity, bits)
    assert read_address(address.text) == address
    assert address.at(9600).text.startswith("/dev/ttyUSB3?speed=9600&")


@given(st.text(max_size=60))
def test_no_text_makes_the_reader_of_links_fail_but_in_words(text: str) -> None:
    with contextlib.suppress(LinkTrouble):
        read_address(f"/dev/x?speed={text}")
    with contextlib.suppress(LinkTrouble):
        read_address(f"tcp://host:{text}")
    with contextlib.suppress(LinkTrouble):
        assert read_address(text).kind in ("serial", "tcp", "rfc2217", "mqtt", "file")


@pytest.mark.parametrize("cause", sorted(code for code, entry in sentences().items() if "bench" in entry))
def test_every_cause_is_a_sentence_with_what_to_do(cause: str) -> None:
    told = trouble(cause, "usb 1-1.4", seconds="12 s", share="40%", words="“go?”", key="g", why="refused", speed="9600")
    assert told.code == cause
    assert told.what.endswith(".")
    assert told.do.rstrip().endswith((".", "”", ":")) or told.act or cause == "recording"  # nothing is wrong then
    assert "{" not in told.sentence + told.label
    assert (told.act != "") == (told.label != "")
    assert told.act in ("", "restart", "send", "ask", "work-out")


@given(st.lists(st.tuples(st.floats(0, 1e4), st.binary(max_size=30)), max_size=20))
def test_a_tape_file_gives_its_lines_at_their_times(stamped: list[tuple[float, bytes]]) -> None:
    kept = [(at, line.replace(b"\n", b"").replace(b"\r", b"")) for at, line in sorted(stamped)]
    text = tape_text(iter(kept))
    lines = text.splitlines(keepends=True)
    assert lines[0] == TAPE_HEAD
    again = list(timed_lines(lines[0], iter(text[len(TAPE_HEAD) :].splitlines(keepends=True)), 50.0))
    if not any(b"\x0b" in line or b"\x0c" in line or b"\x1c" in line or b"\x85" in line for _, line in kept):
        assert [line.rstrip(b"\n") for _, line in again] == [line for _, line in kept]
        assert [at for at, _ in again] == pytest.approx([at for at, _ in kept], abs=1e-6)
    plain = list(timed_lines(b"1;2\n", iter([b"3;4\n"]), 10.0))
    assert plain == [(0.0, b"1;2\n"), (0.1, b"3;4\n")]


@pytest.mark.parametrize(
    ("topic", "place", "line"),
    [
        ("lab/+/out", 1, b"@k7\t1;2\n"),
        ("lab/#", 1, b"@k7\t1;2\n"),
        ("lab/k7/out", None, b"1;2\n"),
        ("+/k7/out", 0, b"@lab\t1;2\n"),
    ],
)
def test_a_wildcard_in_a_topic_tells_kits_apart(topic: str, place: int | None, line: bytes) -> None:
    assert wildcard_place(topic) == place
    assert lines_of("lab/k7/out", b"1;2\r\n\r\n", place) == line


def test_a_book_keeps_how_its_kits_are_read_asked_and_named(tmp_path: Path) -> None:
    lesson = OpenLesson.make(tmp_path / "a.benchbook", Plan("p"), "9B", ["Basalt"])
    kit = lesson.book.record(
        "kit", identity="serial 7", name="usb 1-2", link="/dev/ttyNO?speed=9600", format="", asking=""
    )
    lesson.close()
    book = Book.open(tmp_path / "a.benchbook")
    assert book.row("kit", kit)["link"] == "/dev/ttyNO?speed=9600"
    assert book.rows("bench")[0]["kit"] is None
    book.close()
