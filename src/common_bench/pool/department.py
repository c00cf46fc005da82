"""The pool of a department in PostgreSQL: runs go in once, from any number of machines at a time, and nothing that is in is changed.

A run is a row that is added and never altered; what a person says of it later (set aside, taken back, worked up anew) is another row,
the last of which counts. So a machine that may only add can do all that it must, and one that may only read sees everything.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

import msgspec
from sqlalchemy import (
    URL,
    BigInteger,
    Column,
    Connection,
    Double,
    Engine,
    Identity,
    Index,
    Integer,
    MetaData,
    Table,
    Text,
    create_engine,
    func,
    make_url,
    select,
    text,
)
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, SQLAlchemyError

from common_bench.model.plan_file import plan_from_text
from common_bench.model.shared_pool import SharedPool, SharedRun
from common_bench.model.trouble import PoolTrouble, Trouble
from common_bench.pool.run_rows import run_rows

VERSION = 4
ADDS, READS = "bench_adds", "bench_reads"  # roles that may only add, and only read
CONNECT_WITHIN = 8  # s
AGAIN_AFTER = 1.0  # s until a server that is away is tried again
PLACED = ("place", "x", "u_x", "y", "u_y", "shared_y")  # of a run on the class graph
AT_ONCE = 500  # rows in one statement
LOCK = 740_417  # of the database, held while its tables are made

metadata = MetaData()
made = Table("bench_schema", metadata, Column("version", Integer, nullable=False))
plan = Table("bench_plan", metadata, Column("id", Text, primary_key=True), Column("name", Text, nullable=False), Column("text", Text, nullable=False))  # fmt: skip
run = Table(
    "bench_run", metadata, Column("id", Text, primary_key=True), Column("plan", Text, nullable=False), Column("class_id", Text, nullable=False),
    Column("group_alias", Text, nullable=False), Column("number", Integer, nullable=False), Column("began_at", Text, nullable=False),
    Column("source", Text, nullable=False),
)  # fmt: skip
told = Table(
    "bench_told", metadata, Column("id", BigInteger, Identity(always=True), primary_key=True), Column("run", Text, nullable=False),
    Column("sent_at", Text, nullable=False), Column("digest", Text, nullable=False), Column("aside", Text, nullable=False),
    Column("conditions", Text, nullable=False), Column("findings", Text, nullable=False), Column("words", Text, nullable=False),
    Column("place", Text), *(Column(each, Double) for each in PLACED[1:]),
    Index("bench_told_once", "run", "digest", unique=True), Index("bench_told_run", "run"),
)  # fmt: skip
Index("bench_run_plan", run.c.plan)

MIGRATIONS: dict[int, tuple[str, ...]] = {
    2: ("ALTER TABLE bench_told ADD COLUMN IF NOT EXISTS words TEXT NOT NULL DEFAULT '{}'",),
    3: (
        "ALTER TABLE bench_told ADD COLUMN IF NOT EXISTS place TEXT",
        *(
            f"ALTER TABLE bench_told ADD COLUMN IF NOT EXISTS {each} DOUBLE PRECISION"
            for each in ("x", "u_x", "y", "u_y")
        ),
    ),
    4: ("ALTER TABLE bench_told ADD COLUMN IF NOT EXISTS shared_y DOUBLE PRECISION",),
}
"""What brings a database of the version before to this one. place, x, u_x, y, u_y, shared_y: where a run stands on the class graph of its plan
(`run_rows.py`), null where it does not stand there, or an older program sent it."""
PLACES = """
    SELECT class_id, group_alias, place, count(*) AS runs, avg(x) AS x, max(u_x) AS u_x, count(u_x) AS known_x, avg(y) AS y,
        var_pop(y) * count(*) AS squares, sum(greatest(0, u_y * u_y - coalesce(shared_y * shared_y, 0))) AS stated, count(u_y) AS known_y, avg(coalesce(shared_y, 0)) AS shared
    FROM (
        SELECT DISTINCT ON (told.run) told.*, run.class_id, run.group_alias
        FROM bench_told told JOIN bench_run run ON run.id = told.run JOIN bench_plan plan ON plan.id = run.plan
        WHERE plan.name = :name ORDER BY told.run, told.id DESC
    ) last
    WHERE aside = '' AND place IS NOT NULL
    GROUP BY class_id, group_alias, place ORDER BY class_id, group_alias, place
"""
UNPLACED = """
    SELECT count(*) FROM bench_run run JOIN bench_plan plan ON plan.id = run.plan
    WHERE plan.name = :name AND NOT EXISTS (SELECT 1 FROM bench_told told WHERE told.run = run.id AND told.place IS NOT NULL)
"""


class Department:
    """Raises PoolTrouble in words where the server, the database or a right is missing; a password is never told."""

    def __init__(self, url: str) -> None:
        try:
            self._url = make_url(url)
        except ArgumentError:
            raise PoolTrouble("department-address", where=url.partition("@")[2] or url) from None
        if self._url.get_backend_name() not in ("postgresql", "postgres"):
            raise PoolTrouble("department-address", where=self.name)
        self._engine: Engine | None = None

    @property
    def name(self) -> str:
        """Its address without a password."""
        return self._url.render_as_string(hide_password=True)

    @contextmanager
    def _connected(self) -> Iterator[Connection]:
        if self._engine is None:
            address: URL = self._url.set(drivername="postgresql+psycopg")
            try:
                self._engine = create_engine(
                    address, connect_args={"connect_timeout": CONNECT_WITHIN}, pool_pre_ping=True
                )
            except (NoSuchModuleError, ImportError) as fault:
                raise PoolTrouble("department-without-driver", fault=fault) from fault
        try:
            with self._engine.begin() as connection:
                yield connection
        except DBAPIError as fault:
            raise self._trouble(fault) from fault
        except SQLAlchemyError as fault:
            raise PoolTrouble("department-refused", where=self.name, fault=_first_line(fault)) from fault

    def _trouble(self, fault: DBAPIError) -> PoolTrouble:
        code = str(getattr(fault.orig, "sqlstate", None) or "")
        if code.startswith("42501"):
            return PoolTrouble("department-not-allowed", where=self.name, fault=_first_line(fault))
        if code.startswith("42P01"):
            return PoolTrouble("department-without-tables", where=self.name)
        if fault.connection_invalidated or not code or code.startswith(("08", "57P")):
            return PoolTrouble("department-away", where=self.name, fault=_first_line(fault))
        return PoolTrouble("department-refused", where=self.name, fault=_first_line(fault))

    def close(self) -> None:
        """Lets go of the server."""
        if self._engine is not None:
            self._engine.dispose()

    def make_ready(self) -> int:
        """Makes the tables and the two roles, or brings them to this version; gives the version. For whoever owns the database."""
        with self._connected() as connection:
            connection.execute(text(f"SELECT pg_advisory_xact_lock({LOCK})"))
            known = connection.dialect.has_table(connection, made.name)
            version = int(connection.execute(select(func.max(made.c.version))).scalar() or 0) if known else 0
            if version > VERSION:
                raise PoolTrouble("department-newer", where=self.name)
            if version == VERSION:
                return VERSION
            if version == 0:
                metadata.create_all(connection)
            for number in range(max(version, 1) + 1, VERSION + 1):
                for statement in MIGRATIONS[number] if version else ():
                    connection.execute(text(statement))
            connection.execute(made.insert().values(version=VERSION))
            for role in (ADDS, READS):
                there = connection.execute(
                    text("SELECT 1 FROM pg_roles WHERE rolname = :role"), {"role": role}
                ).scalar()
                if not there:
                    connection.execute(text(f"CREATE ROLE {role} NOLOGIN"))
            tables = ", ".join(each.name for each in (plan, run, told))
            connection.execute(text(f"GRANT INSERT ON {tables} TO {ADDS}"))
            connection.execute(text(f"GRANT SELECT ON {made.name} TO {ADDS}"))
            connection.execute(text(f"GRANT SELECT ON {tables}, {made.name} TO {READS}"))
        return VERSION

    def send(self, shared: SharedPool, name: str) -> int:
        """Adds what is not there yet, all or nothing; how many rows were added. name: of the plan."""
        with self._connected() as connection:
            version = connection.execute(select(func.max(made.c.version))).scalar()
            if version is None or version > VERSION:
                raise PoolTrouble("department-newer", where=self.name)
            if version < VERSION:
                raise PoolTrouble("department-older", where=self.name)
            id = plan_id(shared.plan)
            connection.execute(
                insert(plan).inline().values(id=id, name=name, text=shared.plan).on_conflict_do_nothing()
            )
            rows = [
                {"id": r.id, "plan": id, "class_id": r.class_id, "group_alias": r.group, "number": r.number, "began_at": r.began_at, "source": r.source}
                for r in shared.runs
            ]  # fmt: skip
            placed = {row["run"]: row for row in _placed(shared)}
            said = [_said(each, placed.get(each.id, {})) for each in shared.runs]
            added = 0
            for at in range(0, len(rows), AT_ONCE):
                connection.execute(insert(run).inline().values(rows[at : at + AT_ONCE]).on_conflict_do_nothing())
                added += connection.execute(
                    insert(told).inline().values(said[at : at + AT_ONCE]).on_conflict_do_nothing(),
                    execution_options={"preserve_rowcount": True},
                ).rowcount
        return added

    def send_within(self, shared: SharedPool, name: str, patience: float) -> int:
        """The same, tried again for so many s while the server is away; what is in the book waits there."""
        until = time.monotonic() + patience
        while True:
            try:
                return self.send(shared, name)
            except PoolTrouble as trouble:
                if trouble.code != "department-away" or time.monotonic() + AGAIN_AFTER > until:
                    raise
            time.sleep(AGAIN_AFTER)

    def plans(self) -> dict[str, int]:
        """Name of each plan -> how many runs there are of it."""
        with self._connected() as connection:
            found = select(plan.c.name, func.count(run.c.id)).join(run, run.c.plan == plan.c.id).group_by(plan.c.name)
            return {str(name): int(count) for name, count in connection.execute(found.order_by(plan.c.name))}

    def places(self, name: str) -> tuple[str, list[dict[str, Any]], int]:
        """The plan as most runs have it, one row for each place of each group, grouped by the server, and how many runs stand nowhere.
        Raises PoolTrouble where there are none."""
        with self._connected() as connection:
            plan_text = self._plan_text(connection, name)
            rows = [dict(row) for row in connection.execute(text(PLACES), {"name": name}).mappings()]
            return plan_text, rows, int(connection.execute(text(UNPLACED), {"name": name}).scalar() or 0)

    def _plan_text(self, connection: Connection, name: str) -> str:
        count = func.count(run.c.id)
        same = select(plan.c.text).join(run, run.c.plan == plan.c.id).where(plan.c.name == name)
        first = connection.execute(same.group_by(plan.c.id, plan.c.text).order_by(count.desc(), plan.c.id)).first()
        if first is None:
            known = (
                ", ".join(str(each) for each in connection.execute(select(plan.c.name).distinct()).scalars()) or "none"
            )
            raise PoolTrouble("department-without-plan", name=name, known=known)
        return str(first[0])

    def pool_of(self, name: str) -> SharedPool:
        """All runs of a plan by its name, each as it was told last; under the plan as most runs have it. Raises PoolTrouble
        where there are none."""
        with self._connected() as connection:
            plan_text = self._plan_text(connection, name)
            last = select(func.max(told.c.id).label("id")).group_by(told.c.run).subquery()
            rows = (
                select(run, told.c.sent_at, told.c.aside, told.c.conditions, told.c.findings, told.c.words)
                .join(plan, plan.c.id == run.c.plan).join(told, told.c.run == run.c.id).join(last, last.c.id == told.c.id)
                .where(plan.c.name == name).order_by(run.c.class_id, run.c.group_alias, run.c.number, run.c.id)
            )  # fmt: skip
            return SharedPool(plan_text, tuple(_shared(dict(row)) for row in connection.execute(rows).mappings()))


def plan_id(plan_text: str) -> str:
    """The same for the same plan, wherever it is."""
    import hashlib

    return hashlib.sha256(plan_text.encode()).hexdigest()[:32]


def _placed(shared: SharedPool) -> list[dict[str, Any]]:
    """Where runs stand on the class graph; nowhere where the plan has none, or cannot be read here."""
    try:
        return run_rows(plan_from_text(shared.plan, "the plan of the pool"), shared)
    except Trouble:
        return []


def _said(each: SharedRun, placed: Mapping[str, Any]) -> dict[str, Any]:
    """placed: where it stands on the class graph; told again where an older program did not say so."""
    said = {
        "aside": each.aside, "conditions": _text(each.conditions), "findings": _text(each.findings), "words": _text(each.words),
    }  # fmt: skip
    return {
        "run": each.id,
        "sent_at": each.sent_at,
        "digest": plan_id("\0".join([*said.values(), each.sent_at, *([str(placed["place"])] if placed else [])])),
        **said,
        **{key: placed.get(key) for key in PLACED},
    }


def _text(value: object) -> str:
    return msgspec.json.encode(value, order="sorted").decode()


def _shared(row: dict[str, object]) -> SharedRun:
    values = {name: msgspec.json.decode(str(row[name])) for name in ("conditions", "findings", "words")}
    names: Sequence[str] = ("id", "class_id", "number", "began_at", "sent_at", "source", "aside")
    return msgspec.convert({**{name: row[name] for name in names}, "group": row["group_alias"], **values}, SharedRun)


def _first_line(fault: Exception) -> str:
    said = str(getattr(fault, "orig", None) or fault).strip().splitlines()
    return said[0][:200] if said else type(fault).__name__
