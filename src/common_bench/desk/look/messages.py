"""The place for messages: always there, under the stage. What was just done, what is wrong, a question in place."""

from __future__ import annotations

import time
from bisect import bisect_left
from collections import deque
from collections.abc import Callable, Sequence

from PyQt6.QtCore import QEvent, QObject, Qt, QTimer
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFrame, QSizePolicy, QStackedWidget, QVBoxLayout

from common_bench.desk.look.labels import label, set_tip
from common_bench.desk.look.pieces import Field, button, hbox, offer, say, set_property
from common_bench.desk.look.sheet import px
from common_bench.model.trouble import Trouble

HEIGHT = 50
STAYS = {"good": 5.0, "amber": 14.0, "red": 25.0}  # s that a sentence stays whose cause has no end of its own
LOOK_EVERY = 250  # ms
REMEMBERED = 6  # sentences that can be looked at again
MOST_LINES = 2  # of a sentence, that there is room for
MOST_WORDS = 200  # characters of several sentences in the place

Ended = Callable[[], bool]
"""Whether what a sentence tells of is over."""


class Question(QFrame):
    """A question answered in place with one line of text; Enter answers, Escape leaves it."""

    def __init__(self, left: Callable[[], object]) -> None:
        """left: called when the question has been answered or left."""
        super().__init__()
        self.setObjectName("card")
        self.setProperty("tone", "amber")
        self._left = left
        self._words = label("", "name")
        self._field = Field()
        self._field.setMinimumWidth(px(220))
        self._trouble = label("", "red", wrap=True)
        self._yes = button("", self._answer, role="main")
        self._no = button("Cancel (Esc)", self.leave)
        row = hbox(self._words, self._trouble, self._field, self._yes, self._no)
        row.setStretch(1, 3)
        row.setStretch(2, 2)
        row.setContentsMargins(px(12), px(3), px(8), px(3))
        self.setLayout(row)
        self._field.returnPressed.connect(self._answer)
        self._field.textEdited.connect(lambda _: self._show_trouble(""))
        self._then: Callable[[str], object] = lambda _: None

    def ask(
        self, words: str, yes: str, then: Callable[[str], object], *, hint: str = "", text: str = "", offers: Sequence[str] = ()
    ) -> None:  # fmt: skip
        """`then` takes the answer and may raise a Trouble, which is shown here; offers: answers to take."""
        offer(self._field, offers)
        self._words.setText(words)
        self._yes.setText(yes)
        self._field.setPlaceholderText(hint)
        set_tip(self._field, hint)
        self._field.setText(text)
        self._show_trouble("")
        self._then = then
        self._field.setFocus()

    def refuse(self, trouble: Trouble) -> None:
        """Says why the answer cannot be taken; what was typed stays to be corrected."""
        self._show_trouble(trouble.sentence)

    def _show_trouble(self, words: str) -> None:
        """In the place of what was asked, which what is typed answers already: there is room for two lines of it."""
        self._trouble.setText(words)
        self._trouble.setVisible(bool(words))
        self._words.setVisible(not words)

    def leave(self) -> None:
        self._left()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self.leave()
        else:
            super().keyPressEvent(event)

    def _answer(self) -> None:
        try:
            self._then(self._field.text())
        except Trouble as trouble:
            self.refuse(trouble)
            return
        self.leave()


class Notice(QFrame):
    """A sentence about what just happened or what is wrong, with the next action on a button."""

    def __init__(self, closed: Callable[[], object]) -> None:
        super().__init__()
        self.setObjectName("card")
        self._words = label("", wrap=True)
        self._words.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self._act = button("", lambda: self._then())
        self._close = button("✕", closed, role="link", tip="Hide this sentence")
        row = hbox(self._words, self._act, self._close)
        row.setContentsMargins(px(12), px(3), px(8), px(3))
        self.setLayout(row)
        self._then: Callable[[], object] = lambda: None
        self._whole = ""
        self._words.installEventFilter(self)  # a button takes some of its room

    def show_sentence(self, words: str, tone: str, act: str, then: Callable[[], object] | None) -> None:
        self.say(words)
        set_property(self, "tone", tone)
        self._act.setVisible(bool(act))
        self._act.setText(act)
        self._then = then or (lambda: None)

    def say(self, words: str) -> None:
        self._whole = words
        self._fit()
        set_tip(self._words, words)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.Resize:
            self._fit()
        return super().eventFilter(watched, event)

    def _fit(self) -> None:
        """As many of the words as there is room for; all of them are in the tip, and among what was told of late."""
        words, room = self._whole.split(" "), MOST_LINES * self._words.fontMetrics().lineSpacing()
        width = max(self._words.width(), px(200))

        def first(count: int) -> str:
            return self._whole if count == len(words) else f"{' '.join(words[:count])} …"

        def fits(count: int) -> bool:
            flags = Qt.TextFlag.TextWordWrap
            return self._words.fontMetrics().boundingRect(0, 0, width, 10_000, flags, first(count)).height() <= room

        count = len(words)
        if not fits(count):
            count = max(1, bisect_left(range(1, count), True, key=lambda each: not fits(each)))
        self._words.setText(first(count))

    def add_words(self, words: str) -> None:
        self.say(f"{self.words} {words}")

    @property
    def has_act(self) -> bool:
        """Whether there is a way back, or on, on its button."""
        return bool(self._act.text())

    @property
    def words(self) -> str:
        return self._whole


class MessagePlace(QFrame):
    """Guarantees that nothing under the mouse moves when a sentence comes or goes, that a sentence never takes the
    focus, and that it does not outlive its cause: it goes when that is over, when its time is, or when it is closed.
    told: what was told of late, the newest last; seen again where the pointer rests on the place.
    """

    def __init__(self, done: Callable[[], object]) -> None:
        """done: called when a question has been answered or left, to give the keys back to the stage."""
        super().__init__()
        self.setObjectName("messages")
        self.setFixedHeight(px(HEIGHT))
        self._done = done
        self.told: deque[str] = deque(maxlen=REMEMBERED)
        self.notice = Notice(self.clear)
        self.question = Question(self._leave)
        self.quiet = label("", "small")
        self.quiet.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._pages = QStackedWidget()
        for page in (self.quiet, self.notice, self.question):
            self._pages.addWidget(page)
        column = QVBoxLayout(self)
        column.setContentsMargins(px(14), px(2), px(14), px(6))
        column.addWidget(self._pages)
        self._ended: Ended | None = None
        self._left: Callable[[], object] | None = None
        self._until = 0.0
        self._looks = QTimer(self)
        self._looks.timeout.connect(self.look)
        self._looks.start(LOOK_EVERY)

    # sentences

    def tell(
        self, words: str, tone: str = "amber", *, act: str = "", then: Callable[[], object] | None = None,
        ended: Ended | None = None,
    ) -> None:  # fmt: skip
        """Shows a sentence. act: what stands on its button, then: what it does; ended: whether what it tells of is over."""
        self.notice.show_sentence(words, tone, act, then)
        self._remember(words)
        self._ended = ended
        self._until = float("inf") if ended is not None else time.monotonic() + STAYS.get(tone, STAYS["amber"])
        if not self.asks:
            self._pages.setCurrentWidget(self.notice)

    @property
    def may_give_way(self) -> bool:
        """Whether the sentence that is shown has said what it had to: no button, and no cause that goes on."""
        return not self._until or (self._ended is None and not self.notice.has_act)

    def say_instead(self, words: str) -> None:
        """Other words for the sentence that is shown, as of how far something has come; its button stays."""
        self.notice.say(words)

    def tell_besides(self, words: str, tone: str = "amber") -> None:
        """Something less urgent: a sentence with a way back that still stands keeps its place, and this follows it as
        far as there is room."""
        if not (self._until and self.notice.has_act):
            self.tell(words, tone)
        elif len(self.text) + len(words) < MOST_WORDS:
            self.notice.add_words(words)
            self._remember(words)

    def _remember(self, words: str) -> None:
        self.told.append(words)
        set_tip(self.quiet, "Told before:\n" + "\n".join(self.told))

    def look(self) -> None:
        """Lets a sentence go whose cause is over."""
        if self._until and (time.monotonic() > self._until or (self._ended is not None and self._ended())):
            self.clear()

    def clear(self) -> None:
        self._until, self._ended = 0.0, None
        if not self.asks:
            self._pages.setCurrentWidget(self.quiet)

    def mended(self, words: str) -> None:
        """What a sentence told of has been mended: it goes, where it is the one that is shown."""
        if words and self.text == words:
            self.clear()

    @property
    def text(self) -> str:
        """The sentence that is shown; empty where there is none."""
        return self.notice.words if self._until else ""

    def say_quietly(self, words: str) -> None:
        """What stands there while there is nothing to tell."""
        say(self.quiet, words)

    # questions

    @property
    def asks(self) -> bool:
        return self._pages.currentWidget() is self.question

    def ask(
        self, words: str, yes: str, then: Callable[[str], object], *, hint: str = "", text: str = "", offers: Sequence[str] = (),
        left: Callable[[], object] | None = None,
    ) -> None:  # fmt: skip
        """left: called when this question was answered or left, or when another takes its place."""
        if self.asks:
            self._let_go()
        self._left = left
        self._pages.setCurrentWidget(self.question)
        self.question.ask(words, yes, then, hint=hint, text=text, offers=offers)

    def after(self, then: Callable[[], object]) -> None:
        """Done once the question that is being answered has been left, as another one."""
        QTimer.singleShot(0, then)

    def _let_go(self) -> None:
        left, self._left = self._left, None
        if left is not None:
            left()

    def _leave(self) -> None:
        self._let_go()
        self._pages.setCurrentWidget(self.notice if self._until else self.quiet)
        self._done()
