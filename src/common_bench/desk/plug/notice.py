"""The place for what is wrong with a kit, what is asked about it, and how sure its reading is: always there, of one
height, so that nothing moves under the mouse.
"""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PyQt6.QtWidgets import QFrame, QHBoxLayout

from common_bench.desk.look.labels import label
from common_bench.desk.look.pieces import button, say, set_property
from common_bench.desk.look.sheet import px
from common_bench.desk.plug.format_card import FormatCard
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.reading_words import sure_words
from common_bench.lesson.words import proposals
from common_bench.model.stream import StreamFormat
from common_bench.record.snapshot import KitState

HEIGHT = 60  # px: three lines of a sentence


class KitNotice(QFrame):
    """One sentence with at most two buttons."""

    def __init__(self, hub: Hub, card: FormatCard, act: Callable[[], object]) -> None:
        super().__init__()
        self._hub, self._card = hub, card
        self._declined: set[tuple[int, str]] = set()
        self._answers: tuple[Callable[[], object], Callable[[], object]] | None = None
        self.setObjectName("card")
        self.setFixedHeight(px(HEIGHT))
        self.words = label("", wrap=True)
        self.act = button("", act, role="main")
        self.yes = button("", lambda: self.answer(0))
        self.no = button("", lambda: self.answer(1))
        row = QHBoxLayout(self)
        row.setContentsMargins(px(12), px(4), px(10), px(4))
        row.setSpacing(px(7))
        row.addWidget(self.words, 1)
        for each in (self.yes, self.no, self.act):
            row.addWidget(each)

    @property
    def asks(self) -> bool:
        """Whether a question about how lines are read stands here."""
        return self._answers is not None

    def show_trouble(self, words: str, act: str) -> None:
        """What is wrong; act: what can be done about it, as on the button."""
        self._tell(words, "amber", act=act)

    def show_reading(self, kit: int, state: KitState) -> None:
        """What is asked about the reading of a kit without trouble, or how sure it is."""
        format = state.format
        if format is None:
            self._tell("Its lines are looked at as they come.", "")
        elif format.question and format.other is not None:
            self._ask_which(format, format.other)
        elif texts := [text for text in proposals(self._hub.lesson, kit, format) if (kit, text) not in self._declined]:
            self._ask_about(kit, format, texts[0])
        elif state.doubt is not None:
            self._tell(
                "Newer lines look different from how it is read. When its run has ended they can be read anew.", "amber"
            )
        elif format.shared and not format.is_sure:
            self._tell("This looks like several kits on one port. They appear one by one when that is sure.", "")
        else:
            self._tell(f"Nothing is wrong. How it is read: {sure_words(format)}.", "")

    def _ask_which(self, format: StreamFormat, other: StreamFormat) -> None:
        kits = any(column.role == "kit" for column in format.columns) and other.dialect == "tagged"
        one, two = ("one number", "two numbers") if len(format.columns) == 1 else ("the first", "the other")
        one, two = ("a kit", "a sensor") if kits else (one, two)
        self._tell(format.question, "amber", f"{one} (Y)", f"{two} (X)")
        self._answers = (
            lambda: self._card.keep(msgspec.structs.replace(format, question="", other=None)),
            lambda: self._card.keep(msgspec.structs.replace(other, worked_out_from=format.worked_out_from)),
        )

    def _ask_about(self, kit: int, format: StreamFormat, text: str) -> None:
        rest = tuple(each for each in format.proposals if each != text)
        self._tell(
            f"{text} comes again and again, far from all other values. Does it stand for “no value”?",
            "amber", "yes, no value (Y)", "no, it is a value (X)",
        )  # fmt: skip
        kept = msgspec.structs.replace(format, no_value=(*format.no_value, text), proposals=rest)
        self._answers = (lambda: self._card.keep(kept), lambda: self._declined.add((kit, text)))

    def _tell(self, words: str, tone: str, yes: str = "", no: str = "", *, act: str = "") -> None:
        say(self.words, words, "" if tone else "soft")
        set_property(self, "tone", tone)
        for each, text in ((self.yes, yes), (self.no, no), (self.act, act)):
            each.setText(text)
            each.setVisible(bool(text))
        self._answers = None

    def answer(self, at: int) -> None:
        """The first or second answer to what is asked."""
        if self._answers is not None:
            answers, self._answers = self._answers, None
            answers[at]()
