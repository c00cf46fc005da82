"""Names for groups that are nobody's."""

from __future__ import annotations

ALIASES = (
    "Basalt", "Chalk", "Flint", "Gneiss", "Marble", "Slate", "Granite", "Tuff", "Shale", "Quartz", "Schist",
    "Pumice", "Jasper", "Agate", "Opal", "Gypsum", "Mica", "Talc", "Beryl", "Topaz", "Garnet", "Zircon", "Spinel",
    "Onyx", "Pyrite", "Halite", "Galena", "Cinnabar", "Olivine", "Peridot", "Sandstone", "Travertine",
)  # fmt: skip
CLASS_NAME = "9B"
