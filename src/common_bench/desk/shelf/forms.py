"""Making a class, and changing who is in one: panels in the place of the plans, never over them."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QGridLayout, QVBoxLayout

from common_bench.desk.look.emblems import EmblemView
from common_bench.desk.look.labels import label, set_tip
from common_bench.desk.look.pieces import Card, Field, button, emptied, hbox, say, scrolled, set_property
from common_bench.desk.look.sheet import px
from common_bench.lesson.known_books import books_folder
from common_bench.lesson.lessons import BookEntry
from common_bench.lesson.register import Register, aliases_from
from common_bench.model.bench import Group, emblem_for
from common_bench.model.trouble import Trouble
from common_bench.standins.classes import ALIASES

Edit = Callable[[Callable[[Register], object]], bool]
"""Does something with the register of the chosen class; whether it worked."""


class NewClassForm(Card):
    """Name, groups, and where its book lies."""

    def __init__(self, make: Callable[[Path, str, list[str]], object], leave: Callable[[], object]) -> None:
        super().__init__("A new class", name=True)
        self._make, self._chosen_place = make, ""
        self.name = Field()
        self.name.setPlaceholderText("as 9B")
        self.groups = Field("6")
        set_tip(self.groups, "How many groups, or their names with commas between; no student needs to be named")
        self.place = Field()
        set_tip(self.place, "The bench book: one file that holds all of this class")
        self.trouble = label("", "red", wrap=True)
        self.emblems = QGridLayout()
        self.maker = button("Make this class (Enter)", self.make, role="main")
        grid = QGridLayout()
        grid.setSpacing(px(8))
        for row, (words, field) in enumerate(
            (("Class", self.name), ("Groups: how many, or their names", self.groups), ("Its bench book", self.place))
        ):
            grid.addWidget(label(words), row, 0)
            grid.addWidget(field, row, 1)
        grid.addWidget(button("Choose…", self._choose), 2, 2)
        grid.setColumnStretch(1, 1)
        self.body.addLayout(grid)
        self.body.addLayout(self.emblems)
        self.add(self.trouble)
        self.body.addLayout(hbox(self.maker, button("Cancel (Esc)", leave), None))
        self.add(
            label(
                "The book holds the class's lessons, groups, kits, calibrations, runs and findings, in one file that you can copy and carry.",
                "soft",
                wrap=True,
            )
        )
        self.body.addStretch(1)
        self.name.textEdited.connect(lambda _: self._follow())
        self.groups.textEdited.connect(lambda _: self._follow())
        for field in (self.name, self.groups, self.place):
            field.returnPressed.connect(self.make)

    def begin(self) -> None:
        """Empty, with the cursor in its first field."""
        self.name.setText("")
        self._chosen_place = ""
        self._follow()
        self.name.setFocus()

    def _follow(self) -> None:
        """Proposes a file, and shows who will be in the class."""
        self.trouble.hide()
        if not self._chosen_place:
            words = "-".join(re.findall(r"\w+", self.name.text())) or "class"
            self.place.setText(str(books_folder() / f"{words}.benchbook"))
            self.place.home(False)
        emptied(self.emblems)
        try:
            aliases = aliases_from(self.groups.text(), ALIASES)
        except Trouble as trouble:
            self._say(trouble)
            return
        for at, alias in enumerate(aliases):
            emblem = emblem_for(at)
            self.emblems.addLayout(
                hbox(EmblemView(emblem.shape, emblem.colour, 16), label(alias[:18], "small"), None, spacing=5),
                at // 6,
                at % 6,
            )

    def _choose(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self, "Where the class's bench book lies", self.place.text(), "Bench books (*.benchbook)",
            options=QFileDialog.Option.DontConfirmOverwrite,
        )  # fmt: skip
        if path:
            self._chosen_place = path
            self.place.setText(path)

    def make(self) -> None:
        path = Path(self.place.text().strip()).expanduser()
        try:
            aliases = aliases_from(self.groups.text(), ALIASES)
            self._make(
                path if path.suffix == ".benchbook" else path.with_name(path.name + ".benchbook"),
                self.name.text(),
                aliases,
            )
        except Trouble as trouble:
            self._say(trouble)

    def _say(self, trouble: Trouble) -> None:
        say(self.trouble, trouble.sentence)
        self.trouble.show()


class GroupsForm(Card):
    """Who is in a class: emblem, name and initials of each group; another group; the name of the class."""

    def __init__(self, edit: Edit, leave: Callable[[], object]) -> None:
        super().__init__("Class and groups", name=True)
        self._edit = edit
        self.name = Field()
        self.name.editingFinished.connect(self._rename_class)
        self.alias = Field()
        self.alias.setPlaceholderText("name of another group")
        self.alias.setMinimumWidth(px(230))
        self.alias.returnPressed.connect(self._add)
        self.rows = QGridLayout()
        self.rows.setSpacing(px(5))
        self.fields: dict[int, tuple[Field, Field]] = {}
        self._entry: BookEntry | None = None
        self.body.addLayout(hbox(label("Class"), self.name, None))
        inside = QVBoxLayout()
        inside.setContentsMargins(0, 0, px(4), 0)
        inside.addLayout(self.rows)
        inside.addStretch(1)
        self.body.addWidget(scrolled(inside), 1)
        self.body.addLayout(
            hbox(self.alias, button("Add a group", self._add), None, button("Done (Esc)", leave, role="main"))
        )

    def show_class(self, entry: BookEntry) -> None:
        self._entry = entry
        if not self.name.hasFocus():
            self.name.setText(entry.name)
        emptied(self.rows)
        self.fields = {}
        for at, group in enumerate(entry.groups):
            self._add_row(at, group, known=group.id in entry.kits_known)

    def _add_row(self, at: int, group: Group, *, known: bool) -> None:
        emblem = EmblemView(group.emblem.shape, group.emblem.colour, 20)
        alias, initials = Field(group.alias), Field(group.initials)
        set_tip(alias, "The name of the group")
        initials.setPlaceholderText("initials, or nothing")
        initials.setFixedWidth(px(140))
        alias.editingFinished.connect(
            lambda: self._change(alias, group.alias, lambda r: r.rename_group(group.id, alias.text()))
        )
        initials.editingFinished.connect(
            lambda: self._change(initials, group.initials, lambda r: r.set_initials(group.id, initials.text()))
        )
        self.fields[group.id] = alias, initials
        other = button(
            "Another emblem", lambda: self._edit(lambda r: r.set_emblem(group.id, r.next_emblem(group.id))), role="link"
        )
        remove = button(
            "Take out",
            lambda: self._edit(lambda r: r.remove_group(group.id)),
            role="link",
            tip="Its runs stay; it comes back when a group of its name is added",
        )
        for column, each in enumerate(
            (emblem, alias, initials, label("kit known" if known else "no kit yet", "small"), other, remove)
        ):
            self.rows.addWidget(each, at, column)

    def _change(self, field: Field, before: str, act: Callable[[Register], object]) -> None:
        if field.text().strip() != before and field.isModified():
            field.setModified(False)
            set_property(field, "wrong", not self._edit(act))

    def _rename_class(self) -> None:
        if self._entry is not None and self.name.isModified() and self.name.text().strip() != self._entry.name:
            self.name.setModified(False)
            self._edit(lambda r: r.rename_class(self.name.text()))

    def _add(self) -> None:
        text = self.alias.text()
        if text.strip() and self._edit(lambda r: r.add_groups(aliases_from(text, ()) or [text])):
            self.alias.clear()
