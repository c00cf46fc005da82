"""docs/workings.md: every line in it is read, checked and worked out; every form and every ready line stands in it."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest

from common_bench.cli.running import main
from common_bench.workings.evaluate import check
from common_bench.workings.picture import picture_of
from common_bench.workings.ready import ready_ones
from common_bench.workings.table import FORMS

DOC = (Path(__file__).parent.parent / "docs" / "workings.md").read_text("utf-8")
BOXES = re.findall(r"```\n(.*?)```", DOC, re.S)
CHANNELS = {"load": "N", "way": "m", "bath": "°C", "beam": "", "u": "V", "lamp": "lx"}
GIVEN = [
    "force = calibrated load", "height = calibrated way", "temp = calibrated bath", "gate = calibrated beam", "voltage = calibrated u",
    "light = calibrated lamp", "current = voltage / 5 ohm", "ax = force", "ay = 2 N - force", "az = force / 3",
    "let_go = rises of height through 0.5 m", "landed = falls of height through 0.1 m, 0.2 s apart",
    "pass = peaks in force above 2.2 N, 0.4 s apart",
]  # fmt: skip
TAKEN = {line.split(" =")[0] for line in GIVEN}


def test_every_line_of_every_box_is_let_through() -> None:
    assert len(BOXES) == 6
    for box in BOXES:
        lines = [line for line in box.splitlines() if line.strip() and line.split(" =")[0] not in TAKEN]
        workings = check([*GIVEN, *lines], CHANNELS)
        assert not workings.troubles, [(each.where, each.sentence) for each in workings.troubles]


def test_every_form_and_every_ready_line_stands_in_it() -> None:
    for form in FORMS.values():
        assert f"| `{form.shown}` | {form.says} | {form.late} |" in DOC
        assert form.example in DOC
    for ready in ready_ones():
        assert f"| {ready.title} |" in DOC
        assert all(f"`{line}`" in DOC for line in ready.lines)


def test_every_form_has_a_picture() -> None:
    for name in FORMS:
        picture = picture_of(name)
        assert picture is not None, name
        assert (
            len(picture.after) or len(picture.marks) or np.isfinite(picture.level) or FORMS[name].group == "over a span"
        )


def table(folder: Path) -> Path:
    t = np.arange(0, 20, 0.02)
    height = 0.5 + 0.3 * np.sin(2 * np.pi * 0.6 * t)
    path = folder / "run.csv"
    rows = [
        f"{1000 * a:.0f};{100 * b:.4f};0,2;{int(b > 0.6)}".replace(".", ",") for a, b in zip(t, height, strict=True)
    ]
    path.write_text("# a remark\nt (ms);height (cm);u_height;odd name\n" + "\n".join(rows), "utf-8")
    return path


def test_the_command_works_on_a_table(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    import json

    lines = ["speed = rate of height over 0.2 s as m/s", "top = peaks in height above 60 cm, 0.8 s apart", "period = mean of gap between top", "on = largest of (calibrated \"odd name\")"]  # fmt: skip
    assert main(["work", str(table(tmp_path)), *lines, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert list(told) == ["speed", "top", "period", "on"]
    assert told["period"]["value"] == pytest.approx(1 / 0.6, abs=1e-3)
    assert told["speed"]["unit"] == "m/s"
    assert len(told["speed"]["t"]) == len(told["speed"]["values"]) == len(told["speed"]["u"])
    assert told["speed"]["values"][500] == pytest.approx(
        0.3 * 2 * np.pi * 0.6 * np.cos(2 * np.pi * 0.6 * 10.0), rel=0.03
    )
    assert told["speed"]["values"][0] is None
    assert told["top"]["unit"] == "s"
    assert main(["work", str(table(tmp_path)), *lines]) == 0
    assert "period = 1.6" in capsys.readouterr().out
    assert main(["work", "--forms"]) == 0
    assert capsys.readouterr().out.count("\n") == len(FORMS)


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ("t (s),x (N)\n0,1\n1,2\n", "m = mean of xs", "Did you mean “x”"),
        ("t (s),x (N)\n0,1\n1,abc\n", "m = mean of x", "line 3"),
        ("t (s),x (N)\n1,1\n0,2\n", "m = mean of x", "row 2"),
        ("t (N),x (N)\n0,1\n1,2\n", "m = mean of x", "no time"),
        ("t (s),x (blah)\n0,1\n1,2\n", "m = mean of x", "blah"),
        ("t (s),x,x\n0,1,2\n", "m = mean of x", "two columns"),
        ("t (s),x\n", "m = mean of x", "no rows"),
        ("t (s),x\n0,1\n", "m = mean of (x where x > 3)", "no value"),
        ("t (s),x\n0,1\n", "", "one working"),
    ],
)
def test_what_cannot_be_worked_out_is_said_in_a_sentence(
    text: str, line: str, words: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    path = tmp_path / "run.csv"
    path.write_text(text, "utf-8")
    assert main(["work", str(path), *([line] if line else [])]) == 2
    assert words in capsys.readouterr().err
