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


def dropped_logs(event: QDropEvent) -> list[Path]:
    """Files that kits may have logged, which are all that are no plan and no book."""
    carried = event.mimeData()
    paths = [Path(url.toLocalFile()) for url in carried.urls()] if carried is not None else []
    return [path for path in paths if path.is_file() and path.suffix not in (SUFFIX, ".toml", ".benchbook")]
