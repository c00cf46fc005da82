"""A folder of tables told about in one file, `datapackage.json`, as a Frictionless Data Package (version 1): every column with its
type, its unit and what it is the uncertainty of."""

from __future__ import annotations

import csv
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec

HEADER = re.compile(r"(?P<name>.*?)(?: \((?P<unit>[^()]*(?:\([^()]*\)[^()]*)?)\))?")
STATED = "u_"  # begins the name of a standard uncertainty
WORDS = {".toml": "text/toml", ".json": "application/json", ".png": "image/png", ".benchpool": "application/json", ".tape": "text/plain", ".parquet": "application/vnd.apache.parquet"}  # fmt: skip


def data_package(name: str, title: str, files: Sequence[Path], folder: Path) -> bytes:
    """What the files of a folder and of the folders in it are; name: in small letters, title: for people; folder: where the
    package lies, from which paths are given."""
    resources = [_table(path, folder) if path.suffix == ".csv" else _file(path, folder) for path in files]
    schemas = {each["path"]: each["schema"] for each in resources if "schema" in each}
    for each in resources:  # the same columns as the table beside it
        if each["format"] == "parquet":
            each["schema"] = schemas[each["path"].replace(".parquet", ".csv")]
    told = {
        "profile": "data-package", "name": _slug(name), "title": title,
        "description": "Empty fields are values that nobody knows. Columns that begin with u_ hold standard uncertainties.",
        "resources": resources,
    }  # fmt: skip
    return msgspec.json.format(msgspec.json.encode(told), indent=1) + b"\n"


def _slug(text: str) -> str:
    return "-".join(re.findall(r"[a-z0-9]+", text.lower())) or "table"


def _named(path: Path, folder: Path) -> str:
    """The name of a resource: unique within the package, as the standard asks."""
    whole = path.relative_to(folder).with_suffix("").as_posix()
    return _slug(f"{whole}-{path.suffix[1:]}" if path.suffix != ".csv" else whole)


def _file(path: Path, folder: Path) -> dict[str, Any]:
    kind = WORDS.get(path.suffix, "application/octet-stream")
    return {
        "profile": "data-resource",
        "name": _named(path, folder),
        "path": path.relative_to(folder).as_posix(),
        "format": path.suffix[1:],
        "mediatype": kind,
    }


def _table(path: Path, folder: Path) -> dict[str, Any]:
    with path.open(encoding="utf-8", newline="") as file:
        rows = csv.reader(file)
        header = next(rows, [])
        kinds = ["integer"] * len(header)
        seen = [False] * len(header)
        for row in rows:
            for at, cell in enumerate(row[: len(header)]):
                if cell and kinds[at] != "string":
                    seen[at] = True
                    kinds[at] = _kind(cell, kinds[at])
    fields = [field_of(each, kind if there else "string" if holds_words(each) else "number") for each, kind, there in zip(header, kinds, seen, strict=True)]  # fmt: skip
    return {
        "profile": "tabular-data-resource", "name": _named(path, folder), "path": path.relative_to(folder).as_posix(), "format": "csv", "mediatype": "text/csv",
        "encoding": "utf-8", "dialect": {"delimiter": ",", "lineTerminator": "\r\n", "quoteChar": '"', "doubleQuote": True, "header": True},
        "schema": {"fields": fields, "missingValues": [""]},
    }  # fmt: skip


def _kind(cell: str, before: str) -> str:
    """The narrowest type that a column still has with one more cell."""
    if before == "integer" and re.fullmatch(r"-?\d+", cell):
        return "integer"
    try:
        float(cell)
    except ValueError:
        return "string"
    return "number"


def holds_words(header: str) -> bool:
    """Whether a column that is empty would hold words: one with a unit, and an uncertainty, holds numbers."""
    found = HEADER.fullmatch(header)
    return found is not None and not found["unit"] and not found["name"].startswith(STATED) and " " in found["name"]


def field_of(header: str, kind: str) -> dict[str, Any]:
    """What a column is, by what stands over it: its name, type and unit, and what it is the uncertainty of."""
    found = HEADER.fullmatch(header)
    assert found is not None, "every text is a name"
    unit, name = found["unit"], found["name"]
    told: dict[str, Any] = {"name": header, "type": kind}
    if unit:
        told["unit"] = unit
    if name.startswith(STATED):
        told["uncertaintyOf"] = name.removeprefix(STATED)
    return told
