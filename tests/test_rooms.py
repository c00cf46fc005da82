"""The rooms: who may import whom and what, where Qt may be, what stands in the table of sentences, what must not slow the
start."""

from __future__ import annotations

import ast
import re
import string
import subprocess
import sys
from collections.abc import Iterator
from functools import cache
from importlib import import_module
from pathlib import Path

import pytest

from common_bench.model.trouble import Trouble, sentences, words_of

SOURCE = Path(__file__).parent.parent / "src" / "common_bench"
ALL_ABOVE_WORKUP = {"model", "links", "reading", "workings", "fits", "calibrate", "book"}
MAY_IMPORT: dict[str, set[str]] = {
    "model": set(),
    "links": {"model"},
    "reading": {"model"},
    "workings": {"model"},
    "fits": {"model", "workings"},
    "calibrate": {"model", "workings", "fits"},
    "book": {"model"},
    "standins": {"model"},
    "record": ALL_ABOVE_WORKUP,
    "workup": ALL_ABOVE_WORKUP,
    "pool": {"model", "workings", "fits", "book"},
    "exchange": {"model", "reading", "book"},
    "lesson": ALL_ABOVE_WORKUP | {"record", "workup", "pool", "exchange", "standins"},
    "cli": ALL_ABOVE_WORKUP | {"record", "workup", "pool", "exchange", "standins", "lesson", "desk"},
}
OPTIONAL = {"link", "others", "holder"}  # fields of a link's trouble that may be empty
LONGEST = 600  # lines, from which on a module is looked at again for a second duty


@cache
def tree_of(path: Path) -> ast.Module:
    return ast.parse(path.read_text("utf-8"))


def imports_of(path: Path) -> Iterator[tuple[str, str]]:
    """(module, name) of every import; the name is empty where a module is imported."""
    for node in ast.walk(tree_of(path)):
        if isinstance(node, ast.Import):
            yield from ((alias.name, "") for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield from ((node.module, alias.name) for alias in node.names)


def room_of(module: str) -> str:
    parts = module.split(".")
    return parts[1] if parts[0] == "common_bench" and len(parts) > 1 else ""


def modules() -> list[Path]:
    return sorted(SOURCE.rglob("*.py"))


@pytest.mark.parametrize("room", sorted(MAY_IMPORT))
def test_a_room_imports_only_rooms_below_it(room: str) -> None:
    files = list((SOURCE / room).rglob("*.py"))
    assert files
    for path in files:
        rooms = {room_of(module) for module, _ in imports_of(path)} - {"", room, "offers"}
        assert rooms <= MAY_IMPORT[room], f"{path.name} imports {sorted(rooms - MAY_IMPORT[room])}"


def test_every_room_has_its_rule_and_nothing_but_the_command_line_starts_the_desk() -> None:
    rooms = {path.name for path in SOURCE.iterdir() if (path / "__init__.py").exists()}
    assert rooms == set(MAY_IMPORT) | {"desk"}
    for path in modules():
        if not {"desk", "cli"} & set(path.relative_to(SOURCE).parts):
            assert "desk" not in {room_of(module) for module, _ in imports_of(path)}, path


def test_a_room_is_used_only_by_what_it_offers_and_offers_nothing_that_nobody_uses() -> None:
    offered = {room: set(import_module(f"common_bench.{room}").__all__) for room in MAY_IMPORT if room != "cli"}
    used: dict[str, set[str]] = {room: set() for room in offered}
    for path in modules():
        own = path.relative_to(SOURCE).parts[0]
        for module, name in imports_of(path):
            room = room_of(module)
            if room in offered and room != own:
                assert name in offered[room], f"{path.name} takes {module}.{name}, which is not offered"
                used[room].add(name)
    assert used == offered


@pytest.mark.parametrize("room", sorted(set(MAY_IMPORT) - {"cli"}))
def test_what_a_room_offers_is_there_and_says_what_it_is(room: str) -> None:
    package = import_module(f"common_bench.{room}")
    for name in package.__all__:
        found = getattr(package, name)
        if callable(found) and getattr(found, "__module__", "").startswith("common_bench"):
            assert found.__doc__, f"{room} offers {name} without a word about it"
    with pytest.raises(AttributeError, match="offers no"):
        package.something_that_is_not_there  # noqa: B018


def test_qt_is_in_the_desk_alone() -> None:
    for path in modules():
        if "desk" not in path.relative_to(SOURCE).parts:
            assert not {m for m, _ in imports_of(path) if m.startswith(("PyQt", "pyqtgraph"))}, path


def test_no_module_is_longer_than_one_room_holds() -> None:
    long = {path.name: lines for path in modules() if (lines := len(path.read_text("utf-8").splitlines())) > LONGEST}
    assert not long


def test_one_name_means_one_thing_among_the_rooms() -> None:
    """A class is defined once, whatever the room (the desk's stages are parts of one program too)."""
    seen: dict[str, Path] = {}
    for path in modules():
        for node in tree_of(path).body:
            if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                assert node.name not in seen, f"{node.name} is in {path} and in {seen[node.name]}"
                seen[node.name] = path


# the table of sentences


def raised() -> Iterator[tuple[str, str, set[str] | None]]:
    """(place, code, fields) of every trouble that the code makes with a code that is written out; fields are None where
    they cannot be told by reading."""
    for path in modules():
        for node in ast.walk(tree_of(path)):
            if not isinstance(node, ast.Call) or not node.args or not isinstance(node.args[0], ast.Constant):
                continue
            name = node.func.id if isinstance(node.func, ast.Name) else ""
            if name.endswith("Trouble") or name in ("_refused", "trouble", "Ending"):
                given = {each.arg for each in node.keywords if each.arg} - {"where", "start", "end"}
                told = None if name == "Ending" or any(not k.arg for k in node.keywords) else given
                yield (
                    f"{path.name}:{node.lineno}",
                    str(node.args[0].value),
                    told | {"link"} if told and name == "trouble" else told,
                )


def places_in(part: object) -> set[str]:
    texts = part.values() if isinstance(part, dict) else [part]
    return {field for text in texts for _, field, _, _ in string.Formatter().parse(str(text)) if field}


def test_every_trouble_has_its_sentence_and_fills_each_of_its_places() -> None:
    table = sentences()
    for place, code, given in raised():
        assert code in table, f"{place}: {code} has no sentence"
        if given is not None:
            wanted = set().union(*(places_in(table[code].get(part, "")) for part in ("what", "do")))
            assert wanted - OPTIONAL <= given, f"{place}: {code} wants {wanted - given}"


def test_every_sentence_is_of_use_and_says_what_happened() -> None:
    text = "\n".join(path.read_text("utf-8") for path in modules()) + (SOURCE / "reading" / "names.toml").read_text(
        "utf-8"
    )
    made_up = ("column-",)  # made from the state of a column
    for code, entry in sentences().items():
        assert "what" in entry, code
        assert f'"{code}"' in text or code.startswith(made_up), f"nobody says {code}"
        assert set(entry) <= {"what", "do", "act", "label", "bench", "card"}, code
        for part in ("what", "do"):
            for case in entry[part] if isinstance(entry.get(part), dict) else [""]:
                fields = dict.fromkeys(places_in(entry.get(part, "")), 1) | {"case": case}
                assert "{" not in words_of(code, part, fields)


def test_words_are_made_last_and_nothing_looks_into_them() -> None:
    """No sentence of a trouble is compared, searched or taken apart."""
    looked_into = re.compile(
        r"\.(what|do|sentence|words)\.(startswith|endswith|split|find|index)\(|in \w*trouble\.(what|sentence)"
    )
    for path in modules():
        assert not looked_into.search(path.read_text("utf-8")), path


def test_an_unknown_code_is_told_with_all_that_is_known_of_it() -> None:
    assert "never-heard-of" in Trouble("never-heard-of", size=3).sentence
    assert "3" in Trouble("never-heard-of", size=3).what


def test_the_first_window_needs_none_of_the_slow_libraries() -> None:
    code = (
        "import sys, common_bench.cli, common_bench.desk.shell.application\n"
        "slow = {'numpy', 'scipy', 'pint', 'sqlalchemy', 'lark', 'matplotlib', 'pyqtgraph'} & set(sys.modules)\n"
        "sys.exit(', '.join(sorted(slow)) or 0)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert done.returncode == 0, f"imported before the first window: {done.stderr}"
