"""Files that hold a table in another form: a spreadsheet's sheet, a pack of sensor measurements. Bytes in; the same table as
text, a line a row, out.
"""

from __future__ import annotations

import csv
import datetime
import io
import json
import re
import sys
import zipfile
from collections.abc import Iterable, Sequence
from typing import Any

from common_bench.model.trouble import FileTrouble
from common_bench.reading.senml import LEAST_ABSOLUTE, SENML_UNITS, Pack, common_front, senml_records

ZIP = b"PK\x03\x04"
MARK = ";"
MOST_ROWS, MOST_COLUMNS = 2_000_000, 256  # of a sheet; more is no table of readings
MOST_UNPACKED = 1 << 30  # bytes that a packed file may come to
BASE = re.compile(r"(.+)[:/](.+)")  # a kit's address before the name of a column
ODS_TYPE = b"application/vnd.oasis.opendocument.spreadsheet"


def table_text(data: bytes, where: str) -> str | None:
    """The table as text; None where the file is text itself. Raises FileTrouble for a packed file that is no spreadsheet, or is
    broken."""
    if data.startswith(ZIP):
        return _written(_sheet(data, where))
    if data.lstrip()[:1] in (b"[", b"{"):
        return _of_measurements(data)
    return None


def _sheet(data: bytes, where: str) -> list[list[str]]:
    """The rows of the sheet that holds the most numbers."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            names = set(packed.namelist())
            if sum(each.file_size for each in packed.infolist()) > MOST_UNPACKED:
                raise FileTrouble("sheet-too-large", where=where)
            is_ods = "mimetype" in names and packed.read("mimetype").strip() == ODS_TYPE
        if is_ods:
            sheets = _ods(data)
        elif "xl/workbook.xml" in names:
            sheets = _xlsx(data)
        else:
            raise FileTrouble("packed-no-sheet", where=where)
    except FileTrouble:
        raise
    except Exception as fault:  # whatever the libraries raise of a file that is no sheet, or only half of one
        raise FileTrouble("sheet-broken", where=where) from fault
    return max(sheets, key=lambda rows: sum(_is_number(cell) for row in rows for cell in row), default=[])


def _is_number(cell: str) -> bool:
    return bool(cell) and cell[0] in "0123456789-+."


def _xlsx(data: bytes) -> list[list[list[str]]]:
    from openpyxl import load_workbook

    book = load_workbook(io.BytesIO(data), read_only=True, data_only=True)
    try:
        return [
            _cut(
                [_cell(value) for value in row[:MOST_COLUMNS]]
                for row in sheet.iter_rows(max_row=MOST_ROWS, values_only=True)
            )
            for sheet in book.worksheets
        ]
    finally:
        book.close()


def _ods(data: bytes) -> list[list[list[str]]]:
    from odf.opendocument import load
    from odf.table import Table

    document = load(io.BytesIO(data))
    return [_cut(_ods_rows(sheet)) for sheet in document.spreadsheet.getElementsByType(Table)]


def _ods_rows(sheet: Any) -> Iterable[list[str]]:
    from odf.table import CoveredTableCell, TableCell, TableRow

    told = 0
    for row in sheet.getElementsByType(TableRow):
        cells: list[str] = []
        for cell in row.childNodes:
            if cell.qname not in (TableCell().qname, CoveredTableCell().qname):
                continue
            times = int(cell.getAttribute("numbercolumnsrepeated") or 1)
            cells += [_ods_cell(cell)] * min(times, MOST_COLUMNS - len(cells))
        again = int(row.getAttribute("numberrowsrepeated") or 1)
        empty = not any(cells)
        for _ in range(1 if empty else min(again, MOST_ROWS - told)):
            told += 1
            yield cells


def _ods_cell(cell: Any) -> str:
    kind = cell.getAttribute("valuetype")
    if kind in ("float", "percentage", "currency"):
        return str(cell.getAttribute("value"))
    if kind == "date":
        return str(cell.getAttribute("datevalue"))
    if kind == "boolean":
        return "1" if cell.getAttribute("booleanvalue") == "true" else "0"
    from odf import teletype

    return str(teletype.extractText(cell)).strip()


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "1" if value else "0"
    if isinstance(value, float):
        return repr(value)
    if isinstance(value, datetime.datetime):
        return value.isoformat(timespec="microseconds" if value.microsecond else "seconds")
    if isinstance(value, (datetime.date, datetime.time)):
        return value.isoformat()
    return str(value).strip()


def _cut(rows: Iterable[Sequence[str]]) -> list[list[str]]:
    """Without the empty cells behind the last one that any row fills, and the empty rows at the end."""
    found = [list(row) for row in rows]
    wide = max((at + 1 for row in found for at, cell in enumerate(row) if cell), default=0)
    while found and not any(found[-1]):
        found.pop()
    return [(row + [""] * wide)[:wide] for row in found]


def _written(rows: Iterable[Sequence[str]]) -> str:
    out = io.StringIO()
    csv.writer(out, delimiter=MARK, lineterminator="\n").writerows(
        [" ".join(cell.split()) for cell in row] for row in rows
    )
    return out.getvalue()


def _of_measurements(data: bytes) -> str | None:
    """A SenML file (RFC 8428), as one pack or a pack a line: a row a time, a column a name."""
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return None
    try:
        packs = [json.loads(text)]
    except ValueError:
        try:
            packs = [json.loads(line) for line in text.splitlines() if line.strip()]
        except ValueError:
            return None
    records = [each for pack in _one_pack(packs) for each in senml_records(pack, sys.maxsize) or ()]
    if not records:
        return None
    return _written(_rows_of(records))


def _one_pack(packs: list[Any]) -> list[Any]:
    """Records of one line each are one pack, whose base fields go on."""
    if len(packs) > 1 and all(isinstance(each, dict) for each in packs):
        return [packs]
    return packs


def _rows_of(records: Sequence[Pack]) -> list[list[str]]:
    """A row a time, or one for each kit and time where several speak; columns by what their names have not in common."""
    known = list(dict.fromkeys(each.name for each in records))
    whose = _whose(known)
    front = "" if whose else common_front(known)
    called = {each: whose[each] if whose else ("", each[len(front) :] or each) for each in known}
    names = list(dict.fromkeys(name for _, name in called.values()))
    units = {called[each.name][1]: SENML_UNITS.get(each.unit, each.unit) for each in records}
    places = sorted({(each.time, called[each.name][0]) for each in records})
    at = {place: row for row, place in enumerate(places)}
    cells = [[""] * len(names) for _ in places]
    for each in records:
        if each.value is not None and each.value == each.value:
            kit, name = called[each.name]
            cells[at[each.time, kit]][names.index(name)] = repr(each.value)
    head = [f"{name} ({units[name]})" if units[name] else name for name in names]
    of_kit = [["kit"], *([kit] for _, kit in places)] if whose else [[]] * (len(places) + 1)
    absolute = places[0][0] >= LEAST_ABSOLUTE
    times = ["time" if absolute else "time (s)", *(_moment_of(time) if absolute else repr(time) for time, _ in places)]
    return [[time, *kit, *row] for time, kit, row in zip(times, of_kit, [head, *cells], strict=True)]


def _moment_of(time: float) -> str:
    return datetime.datetime.fromtimestamp(time, datetime.UTC).isoformat(timespec="milliseconds")


def _whose(names: Sequence[str]) -> dict[str, tuple[str, str]] | None:
    """The kit and the column of each name, where several kits have a column of one name: what stands before the last border, and after
    it; None where one kit speaks."""
    parted = {name: (found[1], found[2]) for name in names if (found := BASE.fullmatch(name)) is not None}
    kits = {kit for kit, _ in parted.values()}
    if len(parted) < len(names) or len(kits) < 2 or len({column for _, column in parted.values()}) == len(names):
        return None
    front = common_front(sorted(kits))
    return {name: (kit[len(front) :].strip(":/. ") or kit, column) for name, (kit, column) in parted.items()}
