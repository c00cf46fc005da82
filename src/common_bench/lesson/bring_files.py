"""Files brought in without a window: what `common-bench import` does."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from common_bench.lesson.bringing_in import Preview, told_of, words_of_file
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import Plan
from common_bench.model.trouble import FileTrouble, Trouble


def bring_files(book: Path, files: Sequence[Path], alias: str, *, began: str, ended: str) -> Iterator[dict[str, Any]]:
    """What `import` does: each file as a run, told as it comes. Raises Trouble in words; what came in before it stays."""
    first = files[0]
    if book.exists():
        lesson = OpenLesson.open(book)
    else:
        lesson = OpenLesson.make(book, Plan("Brought in"), "", [alias or first.stem.split()[0][:40] or "Files"])
    try:
        for path in files:
            preview = lesson.bringing_in.look_at(path)
            group = _group(lesson, preview, alias)
            run, _ = lesson.bringing_in.bring(preview, group, began=_moment(began), ended=_moment(ended))
            lesson.working_up.ended(run, None)
            while lesson.working_up.is_busy:
                lesson.tick()
            number = lesson.store.run(run).number
            who = f"{lesson.store.group(group).alias} run {number}"
            yield {
                **told_of(preview, number),
                "group": lesson.store.group(group).alias,
                "words": words_of_file(preview, who),
            }
    finally:
        lesson.close()


def _group(lesson: OpenLesson, preview: Preview, alias: str) -> int:
    if alias:
        found = next((group.id for group in lesson.store.groups if group.alias.lower() == alias.lower()), None)
        if found is None:
            known = ", ".join(group.alias for group in lesson.store.groups)
            raise Trouble("no-such-group", alias=alias, known=known)
        return found
    if preview.group is None:
        known = ", ".join(group.alias for group in lesson.store.groups)
        raise FileTrouble("whose-file", where=str(preview.logged.path), known=known)
    return preview.group


def _moment(text: str) -> datetime | None:
    if not text.strip():
        return None
    try:
        return datetime.fromisoformat(text.strip()).replace(tzinfo=None)
    except ValueError:
        raise FileTrouble("moment-not-read", text=text) from None
