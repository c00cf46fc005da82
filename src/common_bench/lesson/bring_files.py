"""Files brought in without a window: what `common-bench import` does."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from datetime import datetime
from itertools import groupby
from pathlib import Path
from typing import Any

from common_bench.lesson.brought_words import Preview, file_words, told_of, words_of_file
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import Plan
from common_bench.model.trouble import FileTrouble, Trouble

POLL = 0.01  # s between looks whether a run has been worked up


def bring_files(book: Path, files: Sequence[Path], alias: str, *, began: str, ended: str) -> Iterator[dict[str, Any]]:
    """What `import` does: each file as a run, told as it comes. Raises Trouble in words; what came in before it stays."""
    first = files[0]
    if book.exists():
        lesson = OpenLesson.open(book)
    else:
        lesson = OpenLesson.make(book, Plan("Brought in"), "", [alias or first.stem.split()[0][:40] or "Files"])
    try:
        for together in _by_file(_looked_at(lesson, files)):
            runs: list[dict[str, Any]] = []
            for preview in together:
                group = _group(lesson, preview, alias)
                run, _ = lesson.bringing_in.bring(preview, group, began=_moment(began), ended=_moment(ended))
                lesson.working_up.ended(run, None)
                while lesson.working_up.is_busy:
                    time.sleep(POLL)  # the worker has the interpreter meanwhile
                    lesson.tick()
                number, called = lesson.store.run(run).number, lesson.store.group(group).alias
                words = words_of_file(preview, f"{called} run {number}")
                for each in preview.files or (preview,):
                    runs.append({**told_of(each, number), "group": called, "words": words})
            if together[0].kit:
                yield _of_several(runs)
            else:
                yield from runs
    finally:
        lesson.close()


def _looked_at(lesson: OpenLesson, files: Sequence[Path]) -> Iterator[Preview]:
    """All files, those together that belong together; where one cannot be read, those before it come first."""
    try:
        yield from lesson.bringing_in.look_at_all(files)
    except Trouble:
        for path in files:
            yield from lesson.bringing_in.look_at_all([path])


def _by_file(previews: Iterator[Preview]) -> Iterator[list[Preview]]:
    """The kits of one file together."""
    for _, together in groupby(previews, key=lambda each: (each.logged.path, bool(each.kit))):
        yield list(together)


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
