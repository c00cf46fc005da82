"""Open formats out of the book."""
