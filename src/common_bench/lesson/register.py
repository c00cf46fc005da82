"""The class as a register: its name, its groups with their emblems and initials. Each action is one step of undo."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from common_bench.book.changes import Change
from common_bench.lesson.changes import Changes
from common_bench.lesson.roster import Roster
from common_bench.lesson.store import LessonStore
from common_bench.model.bench import HUES, SHAPES, Emblem
from common_bench.model.trouble import PlanTrouble
from common_bench.model.visible import STEERING

MOST_GROUPS = 32
LONGEST_ALIAS = 40  # characters
LONGEST_INITIALS = 12


class Register:
    """Who is in the class. A group is never deleted: one that leaves keeps its runs, and comes back under its name."""

    def __init__(self, store: LessonStore, changes: Changes, roster: Roster) -> None:
        self._store, self._changes, self._roster = store, changes, roster

    def rename_class(self, name: str) -> Change:
        """In all its lessons. Raises PlanTrouble for an empty name."""
        wanted = " ".join(name.split())
        if not wanted:
            raise PlanTrouble("class-without-name")
        rows = [self._store.book.changed("lesson", row["id"], class_name=wanted) for row in self._store.rows("lesson")]
        return self._changes.do("Rename the class", rows)

    def add_groups(self, aliases: Sequence[str]) -> Change:
        """Raises PlanTrouble for an alias that is empty or taken, or for more groups than a class can have."""
        store = self._store
        taken = {group.alias.lower() for group in store.groups}
        gone = {group.alias.lower(): group.id for group in store.all_groups if group.gone}
        for alias in aliases:
            wanted = " ".join(alias.split()).lower()
            _refuse_alias(alias, wanted, taken)
            taken.add(wanted)
        if len(taken) > MOST_GROUPS:
            raise PlanTrouble("too-many-groups", most=MOST_GROUPS)
        cleaned = [" ".join(alias.split()) for alias in aliases]
        back = [gone[alias.lower()] for alias in cleaned if alias.lower() in gone]
        rows = [store.book.changed("group", group, gone=0) for group in back]
        rows += store.bench_rows(back)
        rows += store.group_rows([alias for alias in cleaned if alias.lower() not in gone])
        return self._changes.do("Add a group" if len(cleaned) == 1 else f"Add {len(cleaned)} groups", rows)

    def remove_group(self, group: int) -> Change:
        """Takes a group out of the class; its runs and findings stay. Raises PlanTrouble while it records."""
        store = self._store
        if self._roster.recording(group):
            raise PlanTrouble("group-records", alias=store.group(group).alias)
        rows = [store.book.changed("group", group, gone=1)]
        rows += [
            store.book.changed("bench", row["id"], kit=None)
            for row in store.rows("bench")
            if row["group"] == group and row["lesson"] == store.id and row["kit"] is not None
        ]
        return self._changes.do(f"Take {store.group(group).alias} out of the class", rows)

    def rename_group(self, group: int, alias: str) -> Change:
        """Raises PlanTrouble for an alias that is empty or taken."""
        wanted = " ".join(alias.split())
        taken = {each.alias.lower() for each in self._store.all_groups if each.id != group}
        _refuse_alias(alias, wanted.lower(), taken)
        return self._changes.do("Rename a group", [self._store.book.changed("group", group, alias=wanted)])

    def arrange(self, group: int, place: int) -> Change:
        """A group to another place among those of the class, counted from 0, as the benches stand in the room."""
        store = self._store
        order = [each.id for each in store.groups if each.id != group]
        order.insert(max(0, min(len(order), place)), group)
        positions = sorted(each.position for each in store.groups)
        rows = [
            store.book.changed("group", each, position=position)
            for each, position in zip(order, positions, strict=True)
            if store.group(each).position != position
        ]
        return self._changes.do("Arrange the benches", rows)

    def set_emblem(self, group: int, emblem: Emblem) -> Change:
        """Raises PlanTrouble for an emblem that another group has."""
        if emblem.shape not in SHAPES or emblem.colour not in HUES:
            raise PlanTrouble("no-such-emblem")
        other = next((each for each in self._store.groups if each.id != group and each.emblem == emblem), None)
        if other is not None:
            raise PlanTrouble("emblem-taken", alias=other.alias)
        row = self._store.book.changed("group", group, shape=emblem.shape, colour=emblem.colour)
        return self._changes.do("Change an emblem", [row])

    def next_emblem(self, group: int) -> Emblem:
        """The emblem after a group's own that nobody has: its shapes first, then its colours."""
        own = self._store.group(group).emblem
        taken = {each.emblem for each in self._store.groups if each.id != group}
        shape, hue = SHAPES.index(own.shape), HUES.index(own.colour) if own.colour in HUES else 0
        for step in range(1, len(SHAPES) * len(HUES)):
            turned, place = divmod(shape + step, len(SHAPES))
            found = Emblem(SHAPES[place], HUES[(hue + turned) % len(HUES)])
            if found not in taken:
                return found
        return own

    def set_initials(self, group: int, initials: str) -> Change:
        """The students' own, or nothing. Raises PlanTrouble where they are longer than initials."""
        wanted = " ".join(initials.split())
        if len(wanted) > LONGEST_INITIALS:
            raise PlanTrouble("initials-too-long", most=LONGEST_INITIALS)
        return self._changes.do("Change initials", [self._store.book.changed("group", group, initials=wanted)])


def _refuse_alias(alias: str, wanted: str, taken: Collection[str]) -> None:
    """Raises PlanTrouble for an alias that is empty, too long or taken, or has characters that cannot be shown. wanted: it
    as it is compared."""
    if not wanted or wanted in taken or len(wanted) > LONGEST_ALIAS:
        raise PlanTrouble("alias-taken", alias=alias.strip()[:LONGEST_ALIAS])
    if STEERING.search(alias):
        raise PlanTrouble("alias-unshown", alias=alias)


def aliases_from(text: str, names: Sequence[str]) -> list[str]:
    """Aliases as somebody types them: `Basalt, Chalk`, or how many, as `6`, which takes the first of `names`.

    Raises PlanTrouble for more groups than a class can have.
    """
    typed = text.strip()
    if typed.isdigit():
        if not 1 <= int(typed) <= MOST_GROUPS:
            raise PlanTrouble("too-many-groups", most=MOST_GROUPS)
        return list(names[: int(typed)])
    found = list(dict.fromkeys(" ".join(alias.split()) for alias in typed.split(",") if alias.strip()))
    if len(found) > MOST_GROUPS:
        raise PlanTrouble("too-many-groups", most=MOST_GROUPS)
    for alias in found:
        _refuse_alias(alias, alias, ())
    return found
