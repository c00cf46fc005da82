"""From a span of a run to findings. Results of the workings in; numbers with their list of uncertainties out."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec
import numpy as np

from common_bench.model.block import Events, Series, Source
from common_bench.model.measured import Measured
from common_bench.model.run import Finding, Share, shared_of
from common_bench.model.trouble import FindingTrouble, Trouble
from common_bench.model.uncertainty import coverage_factor
from common_bench.workings.evaluate import Working, Workings
from common_bench.workings.over import Stretches, over_span
from common_bench.workings.reading import Node
from common_bench.workings.spans import Note

NEGLIGIBLE = 1e-3  # of the combined uncertainty; smaller shares are not listed


def findings_of(
    workings: Workings, results: Mapping[str, Series | Events], span: tuple[float, float], wanted: Sequence[str],
    named: Mapping[str, Stretches] | None = None,
) -> list[Finding]:  # fmt: skip
    """The wanted numbers over span (s from the run's first reading), those with a span of their own over that one (named).
    Raises FindingTrouble in words."""
    if span[1] <= span[0]:
        raise FindingTrouble("span-without-length")
    refused = next((line for line in workings.lines if line.trouble and line.name in wanted), None)
    if refused is not None and refused.trouble is not None:
        raise FindingTrouble("working-refused", where=refused.trouble.where, told=refused.trouble.what)
    without: dict[str, Trouble] = {}
    numbers = over_span(workings, results, span, named=named, without=without)
    findings = []
    for name in wanted:
        if name not in numbers:
            raise without.get(name) or FindingTrouble("no-such-finding", name=name)
        line = next(each for each in workings.lines if each.name == name)
        number = numbers[name]
        assert line.read is not None
        own = (named or {}).get(line.read.during) if line.read.during else None
        taken_over = (own[0][0], own[-1][1]) if isinstance(own, tuple) else span
        made_of = shares(number.parts)
        findings.append(
            Finding(
                name,
                msgspec.structs.replace(number.measured, shared=shared_of(made_of)),
                taken_over,
                number.n,
                "; ".join([in_words(line.read.expression, number.n), *map(note_words, number.notes)]),
                made_of,
                line.text,
                guesses=number.guesses,
                doubts=tuple(
                    dict.fromkeys(
                        [
                            *(note.code for note in number.notes if note.code in DOUBTS),
                            *(["spans-zero"] if spans_zero(number.measured) else []),
                            *(["half-empty"] if heard_share(workings, results, name, taken_over) < LEAST_HEARD else []),
                        ]
                    )
                ),
            )
        )
    return findings


def spans_zero(measured: Measured) -> bool:
    """Whether the 95% confidence interval of a value holds zero, so that not even its sign is known."""
    half = coverage_factor(measured.dof) * measured.u if measured.u > 0 else 0.0
    return bool(half > 0 and abs(measured.value) <= half < np.inf)


def heard_share(
    workings: Workings, results: Mapping[str, Series | Events], name: str, span: tuple[float, float]
) -> float:
    """The least share of a span, in which what is measured and the finding rests on has values, 0 to 1."""
    least = 1.0
    for line in rests_on(workings, name):
        heard = results.get(line.name)
        if not isinstance(heard, Series) or not any(node.form == "calibrated" for node in _within(line)):
            continue
        inside = (heard.t >= span[0]) & (heard.t <= span[1])
        known = np.isfinite(heard.values[inside])
        least = min(least, float(known.mean()) if len(known) else 0.0)
    return least


def rests_on(workings: Workings, name: str) -> list[Working]:
    """The lines that a line rests on, itself first."""
    lines = {line.name: line for line in workings.lines}
    found: dict[str, Working] = {}

    def walk(each: str) -> None:
        if each in found or each not in lines:
            return
        found[each] = lines[each]
        for node in _within(lines[each]):
            if node.form in ("name", "calibrated") and node.word:
                walk(node.word)

    walk(name)
    return list(found.values())


def _within(line: Working) -> Iterator[Node]:
    """All parts of what a line says; none of one that could not be read."""
    waiting = [line.read.expression] if line.read is not None else []
    while waiting:
        node = waiting.pop(0)
        waiting[:0] = node.operands
        yield node


def unheard_in(workings: Workings, results: Mapping[str, Series | Events], name: str) -> Iterator[tuple[str, str]]:
    """(quantity, channel) of those measured ones, among all that a line rests on, of which there is no value."""
    for line in rests_on(workings, name):
        heard = results.get(line.name)
        if not isinstance(heard, Series) or not np.isfinite(heard.values).any():
            yield from ((line.name, node.word) for node in _within(line) if node.form == "calibrated")


def shares(parts: Mapping[Source, float]) -> tuple[Share, ...]:
    """What an uncertainty is made of, largest first; sources of one name are put together (in squares)."""
    squares: dict[tuple[str, bool], float] = {}
    unknown = dict.fromkeys(source.name for source, share in parts.items() if source.dof <= 0 and share)
    for source, share in parts.items():
        if source.dof > 0:
            key = source.name, source.common
            squares[key] = squares.get(key, 0.0) + share * share
    total = sum(squares.values())
    listed = [(*key, square**0.5) for key, square in squares.items() if square > total * NEGLIGIBLE**2]
    known = [Share(name, u, common) for name, common, u in sorted(listed, key=lambda each: -each[2])]
    return (*(Share(name, None) for name in unknown), *known)


NOTES = {
    "gap": "something was not heard in its span",
    "alike": "neighbours resemble each other: as good as {size:.0f} independent ones",
    "pace-changes": "the pace changes in this span",
    "residuals-alike": "the residuals go up and down together (as good as {size:.0f} independent ones): this curve is not the whole story",
    "at-bound": "{name} has run to its bound: what is found says little; widen it, or hold {name}",
    "cancels": "its parts are some {size:,.0f} times as large as the curve and only their difference is small: none of them says anything by itself",
    "first-order": "first order does not hold here: the uncertainty comes from a simulation",
}
DOUBTS = {
    "gap": "a gap in it",
    "residuals-alike": "its curve misses",
    "at-bound": "at a bound",
    "cancels": "parts cancel",
    "pace-changes": "its pace changes",
    "spans-zero": "its interval spans zero",
    "half-empty": "less than half of its span was heard",
}
"""What of a finding somebody should look at before it is used."""
ASKED_ABOUT = ("spans-zero", "half-empty", "at-bound", "cancels")
"""Of these, what a person is asked about before the finding goes to the pool."""
LEAST_HEARD = 0.5  # share of a span, below which a finding of it says little


def over_gaps(findings: Sequence[Finding], gaps: Iterable[tuple[float, float]]) -> list[Finding]:
    """Findings that say so where something was not heard within their spans. gaps: from and to, in s since the run began."""
    lie = list(gaps)

    def told(finding: Finding) -> Finding:
        low, high = finding.span
        silent = sum(max(0.0, min(end, high) - max(start, low)) for start, end in lie)
        if not any(start < high and low < end for start, end in lie):
            return finding
        half = (
            ("half-empty",) if silent > (1 - LEAST_HEARD) * (high - low) and "half-empty" not in finding.doubts else ()
        )
        return msgspec.structs.replace(
            finding, words=f"{finding.words}; {NOTES['gap']}", doubts=("gap", *half, *finding.doubts)
        )

    return [told(finding) for finding in findings]


def note_words(note: Note) -> str:
    """What is to be told with a number, in words."""
    return NOTES[note.code].format(size=note.size, name=note.name)


def in_words(expression: Node, n: int) -> str:
    """`mean of 17 values of swing`."""
    form = expression.table
    if form is not None and form.over is not None and len(form.slots) == 1 and expression.operands[0].form == "name":
        what = expression.operands[0].word
        return f"{form.name} of {n} value{'s' if n != 1 else ''} of {what}"
    if expression.form == "parameter":
        return f"{expression.word} of the fit “{expression.operands[0].word}”, {n} readings"
    return "worked out from other numbers"
