"""The bench book: one SQLite file that holds a class."""

from common_bench.offers import names_of, offering

OFFERS = {
    "book": ("Book",),
    "book_file": (
        "check_file",
        "copy_book",
        "copy_for_writing",
        "now",
    ),
    "changes": (
        "Change",
        "Row",
        "RowChange",
    ),
    "deflate": ("check_sum",),
    "file_keeping": (
        "keep_file",
        "kept_file",
        "StampedLines",
        "StampedRows",
    ),
    "file_pieces": ("FilePieces",),
    "heard_again": (
        "heard",
        "many_at_once",
    ),
    "history": (
        "KeptLine",
        "lines_before",
        "PAGE",
    ),
    "journal": (
        "FLUSH_WITHIN",
        "HEARD",
        "JournalEntry",
        "JournalWriter",
        "LOST",
        "MISSED",
        "OF_RUN",
        "SENT",
    ),
    "removing": (
        "ASIDE",
        "remove_group",
        "remove_lesson",
        "remove_run",
        "Removed",
    ),
    "row_lines": ("RowsAsLines",),
    "row_loops": ("loop",),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
