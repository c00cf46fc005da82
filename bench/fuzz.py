"""Fuzzes the readers with a coverage-guided fuzzer: no exception, no unbounded memory, no reading invented.

Run by `make fuzz` (ten minutes; SECONDS=… for another time). Begins from the corpus of dialects. What is
found is written beside the corpus as a file that `python bench/fuzz.py FILE` plays again.
"""

from __future__ import annotations

import os
import sys
import tomllib
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["common_bench.reading"]):
    from common_bench.model.block import Stamped
    from common_bench.reading.format_finding import MOST_WAITING
    from common_bench.reading.prompts import waiting_for
    from common_bench.reading.reader import Reader, values_in
    from common_bench.reading.spans import spans_of

ROOT = Path(__file__).parent.parent
CORPUS = Path(os.environ.get("CORPUS", "/tmp/common-bench-fuzz"))
LONGEST_HELD = 8192


def one_input(data: bytes) -> None:
    """The first byte says how the rest is cut into chunks; whole and cut must give the same."""
    if len(data) < 2:
        return
    step, data = data[0] % 64 + 1, data[1:]
    whole = Reader()
    blocks = whole.feed([Stamped(0.0, data)]).blocks
    assert len(whole.cutter.held) <= LONGEST_HELD
    assert len(whole.finder._waiting) <= MOST_WAITING + 1
    for block in blocks:
        for at, offset in enumerate(block.offset.tolist()):
            line = data[offset:].replace(b"\r", b"\n").split(b"\n")[0]
            numbers = [float(values[at]) for values in block.channels.values() if values[at] == values[at]]
            digits = any(48 <= each <= 57 for each in line)
            words = any(chr(each).isalpha() for each in line)
            assert not numbers or digits or words, f"a reading was made of {line!r}"
    cut = Reader()
    for low in range(0, len(data), step):
        cut.feed([Stamped(0.0, data[low : low + step])])
    assert (whole.readings, whole.unreadable, whole.notes) == (cut.readings, cut.unreadable, cut.notes)
    assert whole.format == cut.format
    if whole.format is not None:
        for line in data.splitlines()[:20]:
            values_in(line, whole.format)
            text = line.decode("utf-8", "replace")
            assert "".join(span.text for span in spans_of(text, whole.format)) == text
    waiting_for([line.decode("utf-8", "replace") for line in data.splitlines()[-6:]])


def main() -> None:
    CORPUS.mkdir(parents=True, exist_ok=True)
    samples = tomllib.loads((ROOT / "tests" / "dialects" / "samples.toml").read_text("utf-8"))["sample"]
    for at, sample in enumerate(samples):
        (CORPUS / f"sample-{at}").write_bytes(b"\x07" + sample["text"].encode())
    seconds = os.environ.get("SECONDS_TO_RUN", "600")
    words = sys.argv[1:] or [
        str(CORPUS),
        f"-max_total_time={seconds}",
        "-max_len=4096",
        "-timeout=10",
        "-rss_limit_mb=1500",
    ]
    atheris.Setup([sys.argv[0], *words], one_input)
    atheris.Fuzz()


if __name__ == "__main__":
    main()
