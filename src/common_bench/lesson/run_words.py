"""Runs of benches in words: those that were open when the program stopped, those that give no finding, and what is said where there is
none to be seen."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from common_bench.lesson.store import LessonStore
from common_bench.model.run import Run
from common_bench.model.trouble import Trouble
from common_bench.workup.findings import DOUBTS

MOST_NAMED = 3  # runs that are called by their names; of more, how many others there are
OPEN = "run-was-open"


def sends_no(channel: str) -> str:
    """What a bench lacks whose kit is heard without a column that the plan asks for."""
    return f"sends no “{channel}”"


def absent_words(channel: str, where: str) -> str:
    """The same as a sentence with what to do. where: a column can be given a name, as `in stage 2, Plug in`."""
    return f"The plan asks for a column called “{channel}”, and this kit sends none. Give one of its columns that name {where}."


def listed(names: Sequence[str]) -> str:
    """`Basalt run 1`, `Basalt run 1 and Chalk run 1`, `Basalt run 1, Chalk run 1, Flint run 1 and 3 others`."""
    if len(names) > MOST_NAMED + 1:
        return f"{', '.join(names[:MOST_NAMED])} and {len(names) - MOST_NAMED} others"
    return " and ".join([", ".join(names[:-1]), names[-1]] if len(names) > 1 else names)


def opening_words(notices: Sequence[Trouble]) -> list[str]:
    """What is to be told of the opening of a book, the runs that were open in one sentence."""
    told = [each.sentence for each in notices if each.code != OPEN]
    left = [each for each in notices if each.code == OPEN]
    if len(left) < 2:
        return [*told, *(each.sentence for each in left)]
    names = [f"{each.fields['alias']} run {each.fields['number']}" for each in left]
    never = sum(each.fields["case"] != "begun" for each in left)
    also = f"; {never} of them had not begun to record" if never else ""
    return [
        *told,
        f"{listed(names)} were still open when the program stopped; all that was heard up to then is kept{also}. "
        "Look at them in stage 5, Work up.",
    ]


def unworked_words(store: LessonStore, runs: Sequence[int]) -> list[str]:
    """Which of these runs give no finding, and why, one sentence for each reason."""
    found: dict[str, list[str]] = {}
    for run in map(store.run, runs):
        if run.trouble is not None:
            name = f"{store.group(run.group).alias} run {run.number}"
            wrong = next(
                (
                    f" {capital(each)}{'' if each.endswith('?') else '.'}"
                    for each in run.lacks
                    if "wrongly calibrated" in each
                ),
                "",
            )
            found.setdefault(f"{run.trouble.trouble.sentence}{wrong}", []).append(name)
    return [
        f"{listed(names)} {'are' if len(names) > 1 else 'is'} kept, without a finding: {sentence}"
        for sentence, names in found.items()
    ]


def capital(sentence: str) -> str:
    """The sentence with a capital at its beginning."""
    return sentence[:1].upper() + sentence[1:]


def no_run_words(store: LessonStore, group: int) -> tuple[str, str]:
    """What Work up says of a bench of which there is nothing to be seen yet, and what to do."""
    alias = store.group(group).alias if group else ""
    if group and (under_way := worked_on(store, group)):
        said = f"{alias} run {under_way[-1].number} is being worked up …"
        return said, "It appears here by itself. A long run, or a fit that finds no good curve, takes a while."
    return (
        f"{alias} has no run yet" if alias else "No runs yet",
        "Record one in stage 4, or choose another bench with the arrow keys.",
    )


def worked_on(store: LessonStore, group: int) -> list[Run]:
    """Runs of a group that are over and not worked up yet."""
    seen = {run.id for run in store.ended_runs(group)}
    return [run for run in store.runs(group) if run.state == "closed" and run.id not in seen]


def count_words(kept: int, planned: int, what: str = "runs") -> str:
    """`3 of 12 runs`; where there are more than planned, `12 planned, 14 kept`."""
    return f"{kept} of {planned} {what}" if kept <= planned else f"{planned} planned, {kept} kept"


def kept_words(store: LessonStore, group: int) -> tuple[str, Literal["plain", "red"]]:
    """What Work up says of a bench in its column."""
    kept = len(store.kept_runs(group))
    if not kept and worked_on(store, group):
        return "being worked up …", "plain"
    return (f"{kept} kept", "plain") if kept else ("none yet", "red")


def why_to_look(store: LessonStore, run: Run) -> str:
    """What of a run wants a look before it counts; nothing where somebody has seen to it, or nothing is to be seen."""
    if run.aside or run.practice or run.id in store.pooled():
        return ""
    findings = store.findings(run.id)
    if not findings:
        return "wants a look"
    doubts = dict.fromkeys(doubt for finding in findings for doubt in finding.doubts)
    return f"look: {DOUBTS[next(iter(doubts))]}" if doubts else ""
