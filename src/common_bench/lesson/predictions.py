"""What groups expect of a run before it is made: drawn or typed, kept with the run, laid over what came."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence

from common_bench.book.book_file import now
from common_bench.book.changes import Change
from common_bench.lesson.changes import Changes
from common_bench.lesson.store import LessonStore
from common_bench.lesson.store_rows import prediction_of
from common_bench.model.measured import number
from common_bench.model.run import Prediction
from common_bench.model.trouble import Trouble

MOST_POINTS = 200  # of one prediction; a hand draws no finer


class Predictions:
    """Guarantees that a prediction is of a time before its run: once a run has begun, what was drawn for it stays as it is, and
    the next one is drawn anew."""

    def __init__(self, store: LessonStore, changes: Changes) -> None:
        self._store, self._changes = store, changes

    def waiting(self, group: int) -> Prediction | None:
        """Drawn for a run that has not begun; None where none is."""
        own = [row for row in self._own() if row["group"] == group and row["run"] is None]
        return prediction_of(own[-1]) if own else None

    def of_run(self, run: int) -> Prediction | None:
        own = [row for row in self._own() if row["run"] == run]
        return prediction_of(own[-1]) if own else None

    def _own(self) -> list[dict[str, object]]:
        return [row for row in self._store.rows("prediction") if row["lesson"] == self._store.id]

    def draw(self, group: int, quantity: str, points: Sequence[tuple[float, float]]) -> Change:
        """Keeps what is expected of the next run of a group, in the place of what was: (s since it begins, value in the
        quantity's unit). Raises Trouble for fewer than two points and for an unknown quantity."""
        kind = self._store.workings.kinds.get(quantity)
        if kind is None or kind.shape != "series":
            raise Trouble("nothing-to-expect", name=quantity)
        kept = smoothed(points)
        if len(kept) < 2:
            raise Trouble("expected-too-short")
        old = self.waiting(group)
        gone = [self._store.book.gone("prediction", old.id)] if old is not None else []
        new = self._store.book.added(
            "prediction", lesson=self._store.id, group=group, run=None, quantity=quantity, unit=kind.unit,
            points=json.dumps(kept), drawn_at=now(),
        )  # fmt: skip
        return self._changes.do("Draw what is expected", [*gone, new])

    def take_off(self, group: int) -> Change:
        """Nothing is expected any more. Raises Trouble where nothing was."""
        old = self.waiting(group)
        if old is None:
            raise Trouble("nothing-expected")
        return self._changes.do("Take off what is expected", [self._store.book.gone("prediction", old.id)])

    def begun(self, group: int, run: int) -> None:
        """A run has begun: what was expected of it is its own from now on."""
        waiting = self.waiting(group)
        if waiting is not None:
            self._store.book.amend("prediction", waiting.id, run=run)
            self._store.refresh("prediction")


def smoothed(points: Sequence[tuple[float, float]]) -> list[tuple[float, float]]:
    """Points in the order of time, one value a time (the last that was drawn), at most MOST_POINTS of them."""
    by_time = sorted({float(t): float(value) for t, value in points}.items())
    if len(by_time) <= MOST_POINTS:
        return by_time
    step = (len(by_time) - 1) / (MOST_POINTS - 1)
    return [by_time[round(at * step)] for at in range(MOST_POINTS)]


def read_expected(text: str) -> list[tuple[float, float]]:
    """`0 5, 10 2.5, 20 0`: times in s and values, in pairs. Raises Trouble in words."""
    pairs = []
    for part in re.split(r"[,;]\s+|;|\n", text.strip()):
        words = part.split()
        if len(words) != 2:
            raise Trouble("expected-not-read", part=part)
        try:
            pairs.append((number(words[0]), number(words[1])))
        except ValueError:
            raise Trouble("expected-not-read", part=part) from None
    return pairs
