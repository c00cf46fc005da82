"""Books damaged in the ways in which disks, sticks and strange programs damage them."""

from __future__ import annotations

import random
import sqlite3
from pathlib import Path

ODD = (None, "", "\x00\x1b[31m", "{", "NaN", -1, 10**18, 1e308, b"\xff\xfe\x00", "x" * 5000)
WAYS = ("bit", "bits", "cell", "cells", "bytes as text", "row", "cut", "page")


def damaged(path: Path, seed: int) -> str:
    """Damages the book at `path`; says how."""
    dice = random.Random(seed)
    way = dice.choice(WAYS)
    if way in ("bit", "bits", "cut", "page"):
        data = bytearray(path.read_bytes())
        if way == "cut":
            del data[dice.randrange(len(data)) :]
        elif way == "page":
            at = 4096 * dice.randrange(len(data) // 4096)
            data[at : at + 4096] = bytes(4096) if dice.random() < 0.5 else dice.randbytes(4096)
        else:
            for _ in range(1 if way == "bit" else 40):
                data[dice.randrange(len(data))] ^= 1 << dice.randrange(8)
        path.write_bytes(data)
        return way
    book = sqlite3.connect(path)
    try:
        tables = [name for (name,) in book.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'")]  # fmt: skip
        told = []
        for _ in range(6 if way == "cells" else 1):
            table = dice.choice(tables)
            columns = [row[1] for row in book.execute(f'PRAGMA table_info("{table}")')]
            row = book.execute(f'SELECT id FROM "{table}" ORDER BY random()').fetchone()
            if row is None:
                continue
            column = dice.choice(columns[1:])
            told.append(f"{table}.{column}")
            try:
                if way == "row":
                    book.execute(f'DELETE FROM "{table}" WHERE id = ?', row)
                elif way == "bytes as text":
                    book.execute(f'UPDATE "{table}" SET "{column}" = CAST(X\'fffe41\' AS TEXT) WHERE id = ?', row)
                else:
                    book.execute(f'UPDATE "{table}" SET "{column}" = ? WHERE id = ?', (dice.choice(ODD), *row))
            except sqlite3.Error:
                continue
        book.commit()
    finally:
        book.close()
    return f"{way}: {', '.join(told)}"
