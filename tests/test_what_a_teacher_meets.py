"""What a teacher meets in the first lessons, told as she sees it: kits that turn to rubbish, values typed in passing, keys at
work, lessons beside each other."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from common_bench.lesson.words import bench_words, column_rows
from common_bench.standins.control import StandInProcess
from person import open_desk
from waiting import Class

School = Callable[..., Class]


@pytest.mark.parametrize("rubbish", ["rubbish", "endless rubbish", "sign rubbish", "mostly rubbish"])
def test_a_kit_that_sends_rubbish_is_in_trouble_at_once_records_no_more_and_is_ready_when_it_speaks_again(
    school: School, rubbish: str
) -> None:
    made = school(count=2)
    lesson, bad, good = made.lesson, made.group["Basalt"], made.group["Chalk"]
    made.kits.order(kits=["Basalt"], fault=rubbish)
    made.until(lambda: lesson.roster.why_not_ready(bad) == "not-read", "the trouble is told")
    words = bench_words(lesson, bad, "record")
    assert (words.line, words.tone, words.value) == ("cannot be read", "red", "—"), "its last value is none of now"
    assert bench_words(lesson, good, "record").line.startswith("ready")
    told = [cell for row in column_rows(lesson, lesson.store.kit_of(bad)) for cell in row if isinstance(cell, tuple)]
    assert not [words for words, tone in told if tone == "good" and words.startswith("good")]
    assert lesson.recording.begin_runs([bad, good]) == [good]
    lesson.recording.end_runs([good])
    made.kits.order(kits=["Basalt"], fault="no rubbish")
    made.until(lambda: not lesson.roster.why_not_ready(bad), "it is ready again")


def test_a_tile_shows_the_trouble_large_while_its_run_goes_on(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    made = open_desk(tmp_path, stand_ins(world_speed=8.0))
    made.run_lasts(0.0)
    made.press("4", "R")
    made.under_way("Basalt", 2.0)
    made.kits.order(kits=["Basalt"], fault="rubbish")
    made.see("cannot be read", made.window.stage)
    made.press("R")
    made.see("What comes is no reading (all of the lines)", made.window.stage)
    made.kits.order(kits=["Basalt"], fault="no rubbish")
    made.until(lambda: not made.lesson.roster.why_not_ready(made.group["Basalt"]), "it is ready again")
    made.window.close()
