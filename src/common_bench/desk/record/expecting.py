"""A bench says what it expects of its next run: with the mouse on the graph, or typed."""

from __future__ import annotations

from common_bench.desk.record.one_bench import OneBench
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.predictions import read_expected

MOST_TYPED = 120  # characters of a prediction that are offered to be changed


def ask_expected(hub: Hub, one: OneBench) -> None:
    """What this bench expects of its next run, drawn with the mouse or typed."""
    group = hub.group
    predictions = hub.lesson.predictions

    def keep(points: list[tuple[float, float]]) -> None:
        predictions.draw(group, quantity, points)
        one.let_draw(None)
        hub.tell(f"Kept: what {hub.alias} expects of its next run.", "good", act="Take back", then=hub.undo)

    def drawn(points: list[tuple[float, float]]) -> None:
        if hub.try_to(lambda: keep(points)):
            hub.messages.question.leave()

    def typed(text: str) -> None:
        if text.strip():
            keep(read_expected(text))
        else:
            one.let_draw(None)
            predictions.take_off(group)

    quantity = one.let_draw(drawn)
    waiting = predictions.waiting(group)
    text = (
        ", ".join(f"{t:.4g} {value:.4g}" for t, value in zip(waiting.t, waiting.values, strict=True)) if waiting else ""
    )
    hub.messages.ask(
        f"Draw {quantity} on the graph, or type it:", "Keep", typed, hint="s and values: 0 5, 10 2.5, 20 0",
        text=text if len(text) < MOST_TYPED else "", left=lambda: one.let_draw(None),
    )  # fmt: skip
