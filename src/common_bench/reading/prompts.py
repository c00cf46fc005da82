"""What a silent kit may be waiting for, from its last words. Words in; a cause with the key or request out."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Literal, NamedTuple

KEY = r"['\"“‘<\[(]?(?P<key>[A-Za-z0-9?!*#])['\"”’>\])]?(?![\w'])"
PRESS = re.compile(rf"(?i)\b(?:press|type|send|enter|hit|push)\s+(?:the\s+)?(?:key\s+|letter\s+)?{KEY}")
OPTION = re.compile(
    r"(?:^|\s)[\[(]?(?P<key>[A-Za-z0-9])[\])]\s*(?P<what>[A-Za-z][\w ]{1,30})|^\s*(?P<key2>[A-Za-z0-9])\s*[-=:.]\s+(?P<what2>[A-Za-z][\w ]{1,30})"
)
PROMPT = re.compile(r"[?:>]\s*$")
BEGIN = re.compile(r"(?i)\b(?:start|begin|go|measure|run|stream|record|continue)\w*")
BUTTON = re.compile(r"(?i)\b(?:press|push|hold)\b.{0,30}\bbutton\b|\bwaiting for (?:the )?button\b")
REQUEST = re.compile(
    r"(?i)\bfor (?:a|each|one|every|the next)\s+(?:reading|value|measurement|sample|line)\b|\bto (?:get|read|ask)\b"
)
ANY_KEY = re.compile(r"(?i)\b(?:press|hit)\s+(?:any key|enter|return)\b")


class Waiting(NamedTuple):
    """cause: a row of the table of causes; send: what to send to it; words: what it said."""

    cause: Literal["menu", "button", "asked"]
    send: str
    words: str


def waiting_for(words: Sequence[str]) -> Waiting | None:
    """The newest words say most. None where nothing in them asks for anything."""
    recent = [each.strip() for each in words if each.strip()][-6:]
    for said in reversed(recent):
        if BUTTON.search(said):
            return Waiting("button", "", said)
        if ANY_KEY.search(said):
            return Waiting("menu", "\n", said)
        found = list(PRESS.finditer(said))
        if found:
            best = next(
                (each for each in found if BEGIN.match(said[each.end() :].lstrip(" ,").removeprefix("to "))), found[0]
            )
            return Waiting("asked" if REQUEST.search(said[best.end() :]) else "menu", best["key"], said)
    options = [(m["key"] or m["key2"], m["what"] or m["what2"]) for said in recent for m in OPTION.finditer(said)]
    if len(options) >= 2 and (PROMPT.search(recent[-1]) or len(options) >= 3):
        key = next((key for key, what in options if BEGIN.search(what)), options[0][0])
        return Waiting("menu", key, recent[-1])
    return None
