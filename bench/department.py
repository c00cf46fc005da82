"""A department's pool of a million runs: the server groups them, and the class lines are ours."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from pathlib import Path

from common_bench.model.plan_file import plan_to_text, shipped_plan
from common_bench.pool.department import Department, plan_id
from common_bench.pool.department_places import grouped_by_server

Told = Callable[[str, str, str, bool], None]
CLASSES, GROUPS, EACH = 1000, 20, 50
FILL = f"""
    INSERT INTO bench_run (id, plan, class_id, group_alias, number, began_at, source)
        SELECT 'r' || n, '%s', 'class ' || n / {GROUPS * EACH}, 'group ' || n / {EACH} %% {GROUPS}, n %% {EACH}, '', '' FROM generate_series(0, {CLASSES * GROUPS * EACH - 1}) n;
    INSERT INTO bench_told (run, sent_at, digest, aside, conditions, findings, words, place, x, u_x, y, u_y)
        SELECT 'r' || n, '2026-11-24', '', '', '{{}}', '{{}}', '{{}}', l::text, l, 0.002, 4.0243 * l + 0.01 * (random() + random() + random() - 1.5) + 0.01 * sin(n / {EACH}), 0.005
        FROM (SELECT n, 0.5 + 0.04 * (n / {EACH} %% {GROUPS}) AS l FROM generate_series(0, {CLASSES * GROUPS * EACH - 1}) n) made;
    ANALYZE;
"""


def department_lines(told: Told) -> None:
    sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
    from servers import Postgres

    server, plan = Postgres(), shipped_plan("swinging-bottles")
    try:
        url = server.database("million")
        department = Department(url)
        department.make_ready()
        text = plan_to_text(plan)
        id = plan_id(text)
        quoted = text.replace("'", "''")
        server.sql(f"INSERT INTO bench_plan VALUES ('{id}', '{plan.name}', '{quoted}')", "million")
        server.sql(FILL.replace("%%", "%").replace("%s", id), "million")
        began = time.perf_counter()
        department.places(plan.name)
        grouped = time.perf_counter() - began
        began = time.perf_counter()
        found = grouped_by_server(department, plan.name)
        took = time.perf_counter() - began
        department.close()
    finally:
        server.close()
    print(f"grouped by the server in {grouped:.1f} s; {found.lines[-1]}", flush=True)
    told(f"a pool of {CLASSES * GROUPS * EACH:.0e} runs, {CLASSES} classes: read, and every class line", f"{took:.1f} s", "seconds", took < 30)  # fmt: skip
