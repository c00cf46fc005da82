"""Names, ids and words from outside in every place of the desk: they are text there, whatever stands in them."""

from __future__ import annotations

import contextlib
import json
import os
import threading
from collections.abc import Iterator
from pathlib import Path

import msgspec
import pyqtgraph as pg
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QApplication, QLabel, QPushButton, QTableWidget, QWidget

from common_bench.desk.look.labels import RichLabel
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.window import Bench
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.bench import Port
from common_bench.model.plan import Condition, Plan
from common_bench.model.plan_file import shipped_plan
from common_bench.model.visible import STEERING
from person import APPLICATION, wait_until, words_in

assert APPLICATION
EVIL = [
    "<b>bold</b>", "<img src=/dev/zero>", "salt & pepper", "two\nlines", "turned\u202eround", "\x1b[31mred\x07", "<a href='x'>y</a>&lt;",
    "long " + "x" * 10_000,
]  # fmt: skip
RAW = ("<b>bold", "<img", "<a href", "\x1b", "\u202e", "\x07")


def offences(root: QWidget) -> list[str]:
    """What of it reaches a widget as anything but text."""
    found = []

    def look(where: QWidget, what: str, text: str, *, rich: bool) -> None:
        bad = [each for each in RAW if each in text and (rich or not each.startswith("<"))]
        if bad or STEERING.search(text) or len(text) > 40_000:
            found.append(f"{type(where).__name__} {what}: {bad} {text[:80]!r}")

    for each in [root, *root.findChildren(QWidget)]:
        look(each, "tip", each.toolTip(), rich=True)
        if isinstance(each, QLabel):
            rich = each.textFormat() != Qt.TextFormat.PlainText
            if rich and not isinstance(each, RichLabel):
                found.append(f"{each.text()[:60]!r} is not plain")
            look(each, "label", each.text(), rich=rich)
        elif isinstance(each, QAbstractButton):
            text = QPushButton.text(each) if isinstance(each, QPushButton) else each.text()
            look(each, "button", text, rich=False)
            if "&" in text.replace("&&", ""):
                found.append(f"{text[:60]!r}: & as a mark")
        elif isinstance(each, QTableWidget):
            for row in range(each.rowCount()):
                for column in range(each.columnCount()):
                    if (item := each.item(row, column)) is not None:
                        look(each, "cell", item.text(), rich=False)
                        look(each, "tip of a cell", item.toolTip(), rich=True)
        elif isinstance(each, pg.PlotWidget):
            for side in ("left", "bottom"):
                look(each, "axis", each.getPlotItem().getAxis(side).labelString(), rich=True)
            for thing in each.getPlotItem().items:
                if isinstance(thing, pg.TextItem):
                    look(each, "note", thing.toPlainText(), rich=False)
    return found


@pytest.fixture
def babel() -> Iterator[str]:
    """A kit that sends names and ids of that kind, by turns; gives its link."""
    ours, theirs = os.openpty()
    os.set_blocking(ours, False)
    path, going = os.ttyname(theirs), threading.Event()

    def send() -> None:
        at = 0
        while not going.wait(0.02):
            at += 1
            with contextlib.suppress(BlockingIOError):
                name = EVIL[at % 3]
                os.write(ours, json.dumps({"id": EVIL[at % 7][:30], name: at % 50, "mass": 1.5}).encode() + b"\n")
                if at % 40 == 0:
                    os.write(ours, EVIL[at // 40 % 7].encode() + b"\n")

    thread = threading.Thread(target=send, daemon=True)
    thread.start()
    yield path
    going.set()
    thread.join(2.0)
    os.close(ours)
    os.close(theirs)


def evil_plan() -> Plan:
    """All words of a plan that need not be names."""
    plan = shipped_plan("swinging-bottles")
    sensor = msgspec.structs.replace(plan.sensors[0], channel=EVIL[1])
    condition = Condition("bottle", kind="choice", choices=tuple(EVIL[:6]), about=EVIL[1])
    return msgspec.structs.replace(
        plan, name=EVIL[0] + EVIL[7], about=" ".join(EVIL), sensors=(sensor, *plan.sensors[1:]), conditions=(*plan.conditions, condition),
        tiles=dict.fromkeys(plan.tiles, EVIL[1]),
    )  # fmt: skip


def test_no_text_from_outside_is_more_than_text_anywhere_on_the_desk(tmp_path: Path, babel: str) -> None:
    lesson = OpenLesson.make(tmp_path / "evil.benchbook", evil_plan(), EVIL[1] + EVIL[4], EVIL)
    hub = Hub(lesson, tmp_path / "no-ports", only_stand_ins=True)
    window = Bench(hub)
    try:
        kit = lesson.roster.hear(Port(babel, EVIL[1], EVIL[0]))
        lesson.roster.give_kits_in_order([kit])
        group = lesson.store.groups[0].id
        window.resize(1280, 800)
        window.show()
        state = lesson.roster.state
        wait_until(
            lambda: (s := state(group)) is not None and s.lines > 60, "the kit is heard", lambda: hub.messages.text
        )
        found, shown = list[str](), set[str]()
        for key in ("2", "E", "E", "1", "3", "4", "5", "6", "F1", "F1", "2", "T", "T", "F9", "4", "F9", "0", "0"):
            QTest.keyClick(window, getattr(Qt.Key, f"Key_{key}"))
            QTest.qWait(250)
            found += [f"after {key}: {each}" for each in offences(window)]
            shown |= {each for each in RAW[:3] if each in "\n".join(words_in(window))}
        assert found == []
        assert shown == set(RAW[:3]), "they are there to be seen, as text"
        for each in EVIL:
            hub.messages.tell(each)
            QTest.qWait(30)
            assert offences(window) == []
        assert window.width() == 1280, "nothing that is long pushes the window open"
    finally:
        window.close()
        QApplication.processEvents()
        window.deleteLater()
