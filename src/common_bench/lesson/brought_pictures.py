"""What a file that may come in looks like, and how it lies in a run that another kit recorded: a preview in; pictures out that are small
however long it is. Safe from any thread."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from common_bench.book.book import Book
from common_bench.exchange.file_times import numbers
from common_bench.exchange.matching import Match, matched
from common_bench.lesson.brought_words import Preview
from common_bench.model.run import Run
from common_bench.record.replay import Replayed, replay
from common_bench.record.traces import Picture, thinned

WIDTH = 2000  # steps of a picture


def picture_of_column(preview: Preview, at: int) -> Picture:
    """A column against the s since the first row, broken at its gaps."""
    values, t = numbers(preview.logged, at), preview.times.t
    breaks = np.searchsorted(t, [high for _, high in preview.gaps])
    whole = Picture(np.insert(t, breaks, t[np.minimum(breaks, len(t) - 1)]), np.insert(values, breaks, np.nan))
    return thinned(whole, WIDTH, max(preview.seconds, 1e-9))


def with_pictures(preview: Preview) -> Preview:
    """With those of its channels, so that who shows it has nothing to work out."""
    made = {at: picture_of_column(preview, at) for at, each in enumerate(preview.columns) if each.role == "channel"}
    return replace(preview, pictures=made)


@dataclass(frozen=True)
class HeldAgainst:
    """How a file lies in a run. match: where, with the channel of the file and the column of the run that are most alike, None where
    nothing of it moves with anything of the run; picture: that column of the run, as high as the file's own trace."""

    match: Match | None = None
    channel: str = ""
    name: str = ""
    picture: Picture | None = None


def held_against(preview: Preview, replayed: Replayed) -> HeldAgainst:
    """Where a file lies in a run that another kit recorded."""
    best, pair = HeldAgainst(), None
    for at, column in enumerate(preview.columns):
        if column.role != "channel":
            continue
        values = numbers(preview.logged, at)
        for name, other in replayed.raw.items():
            match = matched(preview.times.t, values, replayed.t, other)
            if match is not None and (best.match is None or abs(match.likeness) > abs(best.match.likeness)):
                best, pair = HeldAgainst(match, column.name, name), (values, other)
    if pair is None:
        return best
    low, high, least, most = (float(end(each)) for each in pair for end in (np.nanmin, np.nanmax))
    scaled = low + (pair[1] - least) * ((high - low) / ((most - least) or 1.0))
    return replace(best, picture=thinned(Picture(replayed.t, scaled), WIDTH, max(replayed.seconds, 1e-9)))


def held_against_run(book: Book, preview: Preview, run: Run, channels: dict[str, str]) -> HeldAgainst:
    """The same of a run of the book. Raises FindingTrouble where nothing of it can be read."""
    return held_against(preview, replay(book, run, channels))
