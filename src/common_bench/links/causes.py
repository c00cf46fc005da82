"""The table of causes made into troubles: link and cause in, sentence and advice out."""

from __future__ import annotations

import tomllib
from collections import defaultdict
from functools import cache
from importlib.resources import files

from common_bench.model.trouble import LinkTrouble


@cache
def _table() -> dict[str, dict[str, str]]:
    return tomllib.loads(files("common_bench.links").joinpath("causes.toml").read_text("utf-8"))


def trouble(cause: str, link: str, **filled: str) -> LinkTrouble:
    """The trouble of a cause in the table, as a value that can be raised or shown."""
    known = defaultdict(str, {"link": link, **filled})
    entry = _table()[cause]
    what, do, label = (entry.get(part, "").format_map(known) for part in ("what", "do", "label"))
    return LinkTrouble(what, do=do, cause=cause, act=entry.get("act", ""), label=label, send=filled.get("send", ""))
