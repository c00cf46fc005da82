"""Changes of a book that can be undone: rows before and rows after."""

from __future__ import annotations

from typing import Any

import msgspec

Row = dict[str, Any]


class RowChange(msgspec.Struct, frozen=True):
    """One row: `before` None means it was not there, `after` None that it is no longer."""

    table: str
    id: int
    before: Row | None
    after: Row | None


class Change(msgspec.Struct, frozen=True):
    """What one action of a person changed. Applying and undoing it any number of times gives back the
    same rows; `id` is its own row in the table of changes, which keeps who did what even when undone."""

    label: str
    rows: tuple[RowChange, ...]
    id: int = 0
