"""A file that is dropped on the window."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtGui import QDropEvent

from common_bench.model.plan_file import SUFFIX


def dropped_file(event: QDropEvent) -> Path | None:
    """The plan or the bench book that is being dropped; None where it is something else."""
    carried = event.mimeData()
    urls = carried.urls() if carried is not None else []
    path = Path(urls[0].toLocalFile()) if urls else None
    return path if path is not None and path.suffix in (SUFFIX, ".toml", ".benchbook") else None
