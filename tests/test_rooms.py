"""The rooms: who may import whom, where Qt may be, and what must not slow the start."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "common_bench"
BELOW_RECORD = {"model", "fits", "links", "reading", "calibrate", "workings", "book"}
MAY_IMPORT: dict[str, set[str]] = {
    "model": set(),
    "fits": {"model"},
    "links": {"model"},
    "reading": {"model"},
    "calibrate": {"model", "fits"},
    "workings": {"model"},
    "book": {"model"},
    "standins": {"model"},
    "record": BELOW_RECORD,
    "workup": {"model", "workings", "book"},
    "pool": {"model", "fits", "book"},
    "exchange": {"model", "book"},
    "lesson": BELOW_RECORD | {"record", "workup", "pool", "exchange", "standins"},
}


def imports_of(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
    return found


def room_of(module: str) -> str:
    parts = module.split(".")
    return parts[1] if parts[0] == "common_bench" and len(parts) > 1 else ""


@pytest.mark.parametrize("room", sorted(MAY_IMPORT))
def test_a_room_imports_only_rooms_below_it(room: str) -> None:
    files = list((SOURCE / room).rglob("*.py"))
    assert files
    for path in files:
        rooms = {room_of(name) for name in imports_of(path)} - {"", room}
        assert rooms <= MAY_IMPORT[room], f"{path.name} imports {sorted(rooms - MAY_IMPORT[room])}"


def test_every_room_has_its_rule_and_nothing_but_the_command_line_starts_the_desk() -> None:
    rooms = {path.name for path in SOURCE.iterdir() if (path / "__init__.py").exists()}
    assert rooms == set(MAY_IMPORT) | {"desk"}
    for path in SOURCE.rglob("*.py"):
        if "desk" in path.parts or path.name == "cli.py":
            continue
        assert "desk" not in {room_of(name) for name in imports_of(path)}, path


def test_qt_is_in_the_desk_alone() -> None:
    for path in SOURCE.rglob("*.py"):
        if "desk" not in path.relative_to(SOURCE).parts:
            assert not {name for name in imports_of(path) if name.startswith(("PyQt", "pyqtgraph"))}, path


def test_the_first_window_needs_none_of_the_slow_libraries() -> None:
    code = (
        "import sys, common_bench.cli, common_bench.desk.shell.application\n"
        "slow = {'numpy', 'scipy', 'pint', 'sqlalchemy', 'lark', 'matplotlib', 'pyqtgraph'} & set(sys.modules)\n"
        "sys.exit(', '.join(sorted(slow)) or 0)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert done.returncode == 0, f"imported before the first window: {done.stderr}"
