"""Files brought in without a window: what `common-bench import` does."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from common_bench.lesson.brought_words import Preview, file_words, told_of, words_of_file
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import Plan
from common_bench.model.trouble import FileTrouble, Trouble
from common_bench.record.runs import Recorded

POLL = 0.002  # s between looks whether a run has been worked up


def bring_files(book: Path, files: Sequence[Path], alias: str, *, began: str, ended: str) -> Iterator[dict[str, Any]]:
    """What `import` does: each file as a run, told as it comes. Raises Trouble in words; what has come in stays."""
    first = files[0]
    if book.exists():
        lesson = OpenLesson.open(book)
    else:
        lesson = OpenLesson.make(book, Plan("Brought in"), "", [alias or first.stem.split()[0][:40] or "Files"])
    try:
        yield from bring_into(lesson, files, alias, began=began, ended=ended)
    finally:
        lesson.close()


def bring_into(
    lesson: OpenLesson, files: Sequence[Path], alias: str, *, began: str = "", ended: str = ""
) -> Iterator[dict[str, Any]]:
    """The same where the book is open already."""
    for together in _looked_at(lesson, files):
        runs: list[dict[str, Any]] = []
        of_kits = bool(together[0].kit)
        while together:  # a long file needs no room any more while its run is worked up
            run, recorded, told = _kept(lesson, together.pop(0), alias, began=_moment(began), ended=_moment(ended))
            runs += told
            lesson.working_up.ended(run, recorded)
            recorded = None  # it takes room
            while lesson.working_up.is_busy:
                time.sleep(POLL)  # the worker has the interpreter meanwhile
                lesson.tick()
        if of_kits:
            yield _of_several(runs)
        else:
            yield from runs


def _kept(
    lesson: OpenLesson, preview: Preview, alias: str, *, began: datetime | None, ended: datetime | None
) -> tuple[int, Recorded | None, list[dict[str, Any]]]:
    """One file kept as a run; the run, what is to be worked up, and what is told of it, an object for each file in it."""
    group = _group(lesson, preview, alias)
    run, _, recorded = lesson.bringing_in.bring(preview, group, began=began, ended=ended)
    number, called = lesson.store.run(run).number, lesson.store.group(group).alias
    words = words_of_file(preview, f"{called} run {number}")
    return (
        run,
        recorded,
        [{**told_of(each, number), "group": called, "words": words} for each in preview.files or (preview,)],
    )


def _looked_at(lesson: OpenLesson, files: Sequence[Path]) -> Iterator[list[Preview]]:
    """All files, the kits of one file together and those of one series as one; where some cannot be read, the others come first."""
    found, trouble = lesson.bringing_in.looked_through(files)
    yield from _by_file([lesson.bringing_in.recognised(each) for each in found])
    if trouble is not None:
        raise trouble


def _by_file(previews: list[Preview]) -> Iterator[list[Preview]]:
    """The kits of one file together; they are given away."""
    while previews:
        key = _key(previews[0])
        count = next((at for at, each in enumerate(previews) if _key(each) != key), len(previews))
        together = previews[:count]
        del previews[:count]
        yield together


def _key(preview: Preview) -> tuple[Path, bool]:
    return preview.logged.path, bool(preview.kit)


def _of_several(runs: list[dict[str, Any]]) -> dict[str, Any]:
    """One object for a file in which several kits spoke."""
    first = runs[0]
    own = [{"kit": each["kit"], "group": each["group"], "run": each["run"], "rows": each["rows"]} for each in runs]
    times = {"first": min((each["first"] for each in runs if each["first"]), default=None), "last": max((each["last"] for each in runs if each["last"]), default=None)}  # fmt: skip
    words = "; ".join(each["words"] for each in runs)
    return {**{key: value for key, value in first.items() if key != "kit"}, "rows": sum(each["rows"] for each in runs), **times, "runs": own, "words": words}  # fmt: skip


def _group(lesson: OpenLesson, preview: Preview, alias: str) -> int:
    if alias:
        found = next((group.id for group in lesson.store.groups if group.alias.lower() == alias.lower()), None)
        if found is None:
            known = ", ".join(group.alias for group in lesson.store.groups)
            raise Trouble("no-such-group", alias=alias, known=known)
        return found
    if preview.group is None:
        known = ", ".join(group.alias for group in lesson.store.groups)
        raise FileTrouble(
            "whose-file", where=file_words(preview) if preview.kit else str(preview.logged.path), known=known
        )
    return preview.group


def _moment(text: str) -> datetime | None:
    if not text.strip():
        return None
    try:
        return datetime.fromisoformat(text.strip()).replace(tzinfo=None)
    except ValueError:
        raise FileTrouble("moment-not-read", text=text) from None
