"""The tables of a bench book. docs/bench-book.md describes them for people; a test holds the two together."""

from __future__ import annotations

from typing import Any

from sqlalchemy import (
    Column,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    Table,
    Text,
    UniqueConstraint,
    type_coerce,
)
from sqlalchemy.sql.elements import Label
from sqlalchemy.types import NullType

APPLICATION_ID = 0x62656E63  # "benc", tells the file apart from other SQLite files
SCHEMA_VERSION = 9  # each step up is a function in migrations.py

metadata = MetaData()


def _table(name: str, *columns: Column[object] | UniqueConstraint | Index) -> Table:
    return Table(name, metadata, Column("id", Integer, primary_key=True), *columns)


def _text(name: str, **more: object) -> Column[object]:
    return Column(name, Text, nullable=False, server_default="", **more)  # type: ignore[arg-type]


def _of(table: str, *, needed: bool = True) -> Column[object]:
    return Column(table, Integer, ForeignKey(f"{table}.id"), nullable=not needed, index=True)


plan = _table("plan", _text("name"), _text("text"), _text("kept_at"), _text("origin"))
lesson = _table(
    "lesson", _of("plan"), _text("class_name"), _text("held_on"), Column("pool_open", Integer, server_default="0"),
)  # fmt: skip
group = _table(
    "group", _text("alias", unique=True), _text("shape"), _text("colour"), Column("position", Integer, nullable=False),
    _text("initials"), Column("gone", Integer, server_default="0"),
)  # fmt: skip
kit = _table(
    "kit", _text("identity", unique=True), _text("name"), _text("link"), _text("format"), _text("asking"),
    Column("added", Integer, server_default="0"),
)  # fmt: skip
bench = _table("bench", _of("lesson"), _of("group"), _of("kit", needed=False), UniqueConstraint("lesson", "group"))
condition_value = _table(
    "condition_value", _of("lesson"), _of("group"), _text("name"), Column("value", Float), Column("u", Float), _text("unit"),
    _text("words"), UniqueConstraint("lesson", "group", "name"),
)  # fmt: skip
reference_point = _table(
    "reference_point", _of("lesson"), _of("kit"), _text("channel"), _text("label"), Column("reading", Float),
    Column("u_reading", Float), Column("reference", Float), Column("u_reference", Float), _text("unit"),
    Column("n", Integer), Column("scatter", Float), Column("seconds", Float), _text("taken_at"),
    Column("is_check", Integer, server_default="0"), _text("aside"), Column("step", Float, server_default="0"),
    Column("independent", Float, server_default="1"), Column("drift", Float, server_default="0"), Column("board", Float),
    _text("reason"), _text("against"), _text("readings"),
)  # fmt: skip
calibration = _table(
    "calibration", _of("kit"), _text("channel"), _text("quantity"), _text("unit"), _text("curve"), _text("parameters"),
    _text("covariance"), Column("range_low", Float), Column("range_high", Float), _text("points"), Column("noise", Float),
    Column("step", Float), _text("made_at"), _text("aside"), _text("frame"), _text("choice"), Column("chi_square", Float),
    Column("dof", Integer), Column("rms_residual", Float), Column("u_dof", Float),
)  # fmt: skip
session = _table(
    "session", _of("lesson"), _of("kit"), _text("link"), _text("opened_at"), Column("world_speed", Float, server_default="1"),
    _text("closed_at"),
)  # fmt: skip
journal = _table(
    "journal", _of("session"), _text("what"), Column("first_byte", Integer), Column("at", Float),
    Column("stamps", LargeBinary), Column("sizes", LargeBinary), Column("bytes", LargeBinary),
    Column("check_sum", Integer), Column("packed", Integer, server_default="0"), Index("journal_by_place", "session", "first_byte"),
)  # fmt: skip
run = _table(
    "run", _of("lesson"), _of("group"), Column("number", Integer, nullable=False), _of("session"),
    Column("begin_byte", Integer), Column("end_byte", Integer), _text("state"), _text("began_at"), _text("ending"),
    _text("setting"), _text("aside"), _text("trouble"), _text("note"), _text("lacks"), Column("practice", Integer, server_default="0"), _text("spans"),
    UniqueConstraint("lesson", "group", "number"),
)  # fmt: skip
run_condition = _table(
    "run_condition", _of("run"), _text("name"), Column("value", Float), Column("u", Float), _text("unit"), _text("words"),
    UniqueConstraint("run", "name"),
)  # fmt: skip
moment = _table("moment", _of("run"), Column("t", Float, nullable=False), _text("text"))
taken_point = _table(
    "taken_point", _of("run"), _text("name"), Column("value", Float), Column("u", Float), _text("unit"), Column("t_from", Float),
    Column("t_to", Float), _text("taken_at"), _text("aside"), _text("shown"),
)  # fmt: skip
prediction = _table(
    "prediction", _of("lesson"), _of("group"), _of("run", needed=False), _text("quantity"), _text("unit"), _text("points"),
    _text("drawn_at"),
)  # fmt: skip
brought_file = _table(
    "brought_file", _of("run"), _text("name"), _text("digest"), Column("size", Integer), _text("told"),
    _text("brought_at"),
)  # fmt: skip
run_picture = _table(
    "run_picture", _of("run"), _text("digest"), _text("name"), _text("unit"), Column("t", LargeBinary),
    Column("value", LargeBinary),
)  # fmt: skip
finding = _table(
    "finding", _of("run"), _text("name"), Column("value", Float), Column("u", Float), _text("unit"),
    Column("span_from", Float), Column("span_to", Float), Column("n", Integer), _text("words"), _text("made_of"),
    _text("working"), _text("made_at"), Column("guesses", Integer, server_default="0"), Column("dof", Float), _text("doubts"), UniqueConstraint("run", "name"),
)  # fmt: skip
pooled = _table("pooled", _of("run"), _text("sent_at"), _text("aside"), UniqueConstraint("run"))
change = _table("change", _text("made_at"), _text("label"), _text("rows"), _text("state"))


def as_they_lie(table: Table) -> list[Label[Any]]:
    """The columns of a table as the file holds them, whatever that is: a damaged cell is to be seen, not turned round."""
    return [type_coerce(column, NullType()).label(column.name) for column in table.columns]


TABLES = {table.name: table for table in metadata.sorted_tables}
