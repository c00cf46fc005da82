"""The lesson exported to open formats, in a folder of its own."""

from __future__ import annotations

from pathlib import Path

from common_bench.desk.shell.hub import Hub


def ask_for_folder(hub: Hub) -> None:
    """Asks in place for the folder; it does not have to exist yet."""
    proposed = hub.lesson.book.path.with_suffix("")
    proposed, number = proposed.with_name(f"{proposed.name} export"), 1
    while proposed.exists():
        number += 1
        proposed = proposed.with_name(f"{hub.lesson.book.path.stem} export {number}")
    hub.messages.ask(
        "Export runs, findings and the pool of this lesson to a new folder:", "Export",
        lambda text: export_to(hub, text.strip() or str(proposed)), text=str(proposed),
    )  # fmt: skip


def export_to(hub: Hub, folder: str) -> None:
    """Has a worker write the files; nothing is overwritten. Raises Trouble where that is seen at once."""
    from common_bench.lesson.exporting import export_book

    book, lesson, place = hub.lesson.book.path, hub.lesson.store.id, Path(folder).expanduser()
    hub.tell("The lesson is being exported …", "good")
    hub.later(
        hub.lesson.working_up.submit(lambda: export_book(book, place, lesson=lesson)),
        lambda done: hub.tell(f"Exported: {done.describe()}", "amber" if done.left_out else "good"),
    )
