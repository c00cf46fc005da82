"""What a change of the plan does to the runs that are there, in words, before it is done."""

from __future__ import annotations

from common_bench.lesson.runs_in_step import InStep
from common_bench.lesson.store import LessonStore
from common_bench.model.plan import Plan


def effect_words(store: LessonStore, plan: Plan) -> str:
    """Empty where no run is concerned. Runs are worked up by the lines of now as soon as they stand; what is told before is
    which of their findings count no longer, and what they lack."""
    runs, before = store.kept_runs(), store.plan
    if not runs:
        return ""
    told = []
    lost = [name for name in before.findings if name not in plan.findings]
    having = {name: sum(any(f.name == name for f in store.findings(run.id)) for run in runs) for name in lost}
    for name in lost:
        if having[name]:
            told.append(f"{_runs(having[name])} keep “{name}”, which counts no longer")
    if plan.graph != before.graph and store.pooled():
        told.append(f"the class graph is drawn anew from the {len(store.pooled())} runs in the pool")
    gone = [each.name for each in before.conditions if each.name not in {c.name for c in plan.conditions}]
    stated = [name for name in gone if any(name in store.run_stated(run.id) for run in runs)]
    if stated:
        told.append(f"{', '.join(stated)} stays with the runs that have it, and is asked for no longer")
    asked = [each.name for each in plan.conditions if each.name not in {c.name for c in before.conditions}]
    if asked:
        told.append(f"{_runs(len(runs))} lack {', '.join(asked)}: it can be set in Work up")
    if not told:
        return ""
    words = "; ".join(told)
    return f"{words[0].upper()}{words[1:]}."


def in_step_words(found: InStep) -> str:
    """What has become of the runs that followed the plan."""
    told = []
    if found.followed:
        after = found.followed[0].after
        example = f", the first with {after[0].name} = {after[0].measured}" if after else ""
        told.append(f"{_runs(len(found.followed))} worked up by the lines of now{example}.")
    if found.refused:
        why = found.refused[0].why_not
        keep = "keeps what it had" if len(found.refused) == 1 else "keep what they had"
        told.append(f"{_runs(len(found.refused))} {keep}: {why.what if why is not None else ''}")
    if found.left:
        told.append(
            f"{_runs(found.left)} not looked at: {'it keeps' if found.left == 1 else 'they keep'} what they had."
        )
    return " ".join(told)


def progress_of_runs(done: int, of: int) -> str:
    """How far they have come."""
    return f"The runs follow the plan's lines: {done} of {of}."


def _runs(count: int) -> str:
    return "1 run" if count == 1 else f"{count} runs"
