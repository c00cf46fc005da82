"""Text from outside as it can be shown: what would steer a terminal, turn a line round or hide is written out."""

from __future__ import annotations

import re

STEERING = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u2069\ufeff\ud800-\udfff]"
)
"""Control characters but tab and newline; marks that set the direction of text; what has no width; lone surrogates."""


def visible(text: str, most: int | None = None) -> str:
    r"""Each such character as `\x1b` or `\u202e`; a text of more than `most` characters is cut with “…”."""
    if most is not None and len(text) > most:
        text = f"{text[: most - 1]}…"
    return STEERING.sub(lambda m: m[0].encode("unicode_escape", "backslashreplace").decode(), text)


def on_one_line(text: str, most: int | None = None) -> str:
    """The same without newlines and tabs."""
    return visible(text, most).replace("\n", "\\n").replace("\t", "\\t")
