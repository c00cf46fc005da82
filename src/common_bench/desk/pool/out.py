"""The pool out to open formats, in a folder of its own."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from common_bench.desk.shell.hub import Hub

FILES = ("pool.csv", "pool.json", "class-graph.png", "pool.benchpool")


def ask_for_folder(parent: QWidget, hub: Hub) -> None:
    start = str(hub.lesson.book.path.parent)
    folder = QFileDialog.getExistingDirectory(parent, "A folder for pool.csv, pool.json and the class graph", start)
    if folder:
        export_to(hub, folder)


def export_to(hub: Hub, folder: str) -> None:
    """Has a worker write the files; nothing is overwritten."""
    from common_bench.lesson.exporting import pool_export

    taken = [name for name in FILES if (Path(folder) / name).exists()]
    if taken:
        hub.tell(f"{folder} holds a {taken[0]} already; nothing is overwritten. Choose another folder.", "red")
        return
    write = pool_export(hub.lesson)
    hub.tell("The pool is being written …", "good")
    hub.later(
        hub.lesson.working_up.submit(lambda: write(Path(folder))),
        lambda files: hub.tell(f"Written: {', '.join(str(path) for path in files)}", "good"),
    )
