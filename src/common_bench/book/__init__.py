"""The bench book: one SQLite file that holds a class."""
