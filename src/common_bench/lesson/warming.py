"""All that is compiled, made ready before it is asked for: nothing in, nothing out. `setup/ready` does it once on a machine; the
desk does it beside its first window."""

from __future__ import annotations

import numpy as np

from common_bench.exchange.plain_rows import plain_rows
from common_bench.fits.group_line import group_line
from common_bench.lesson.class_views import spectrum
from common_bench.reading.plain_loops import plain_numbers
from common_bench.record.traces import Picture
from common_bench.workings import warm

ROWS = b"0,1\n1,2\n2,3\n"


def warm_all() -> None:
    """Has each loop read or work out a little, so that it is compiled or fetched."""
    warm()
    plain_numbers(np.frombuffer(ROWS, np.uint8), ord(","), np.empty((3, 2)))
    rows = plain_rows(ROWS, 0, len(ROWS), ",", 2, comma=False)
    assert rows is not None
    rows.counts(0, 8)
    rows.lines(np.arange(3), np.arange(3.0), [1], comma=False)
    swing = np.arange(40.0)
    spectrum(Picture(swing, np.sin(swing)))
    along = np.arange(6.0)
    group_line(along, np.sqrt(along), np.zeros(6), np.full(6, 0.01), np.array([1, 1, 2, 2, 3, 3]))
