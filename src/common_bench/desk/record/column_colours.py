"""The colours that the columns of a file wear before it is brought in, in its lines and in the table of columns alike."""

from __future__ import annotations

from common_bench.desk.look.labels import Markup, escaped
from common_bench.desk.look.sheet import palette
from common_bench.lesson.brought_columns import Piece, first_lines
from common_bench.lesson.brought_words import Preview

AFTER_FIRST = ("amber", "verdigris", "ink")  # channels, in turn; the first wears the group's own


def tone_of(preview: Preview, column: int, own: str) -> str:
    """own: the group's hue."""
    columns = preview.columns
    if column >= len(columns) or columns[column].role != "channel":
        return "soft"
    place = sum(1 for each in columns[:column] if each.role == "channel")
    return (own, *AFTER_FIRST)[place % (1 + len(AFTER_FIRST))]


def coloured_lines(preview: Preview, own: str, most: int, longest: int) -> Markup:
    """The first lines of the file, each cell in its column's colour."""

    def coloured(piece: Piece) -> str:
        text, column = piece
        tone = "soft" if column is None else tone_of(preview, column, own)
        weight = "" if tone == "soft" else ";font-weight:600"
        shown = escaped(text).replace("\t", "\u21e5").replace(" ", "&nbsp;")
        return f'<span style="color:{palette().tone(tone)}{weight}">{shown}</span>'

    lines = first_lines(preview, most, longest)
    return Markup("<br>".join("".join(map(coloured, line)) or "&nbsp;" for line in lines))
