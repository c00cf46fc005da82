"""The bench book: one SQLite file that holds a class."""

from common_bench.offers import names_of, offering

OFFERS = {
    "book": ("Book", "check_file", "now"),
    "changes": ("Change", "Row", "RowChange"),
    "history": ("PAGE", "KeptLine", "lines_before"),
    "journal": ("HEARD", "LOST", "MISSED", "OF_RUN", "SENT", "heard", "JournalEntry", "JournalWriter"),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
