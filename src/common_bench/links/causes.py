"""Troubles of links. A cause in the table of sentences, the link and its fields in; a trouble out."""

from __future__ import annotations

from common_bench.model.trouble import LinkTrouble


def trouble(cause: str, link: str, **fields: str) -> LinkTrouble:
    """The trouble of a cause in the table, as a value that can be raised or shown."""
    return LinkTrouble(cause, link=link, **fields)
