"""The two themes: paper for a screen, dark with larger type for a projector."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Palette:
    """The colours of a theme by what they are for; scale: of its type and room."""

    name: str
    paper: str
    card: str
    hairline: str
    ink: str
    soft: str
    copper: str
    copper_ink: str
    verdigris: str
    amber: str
    red: str
    green: str
    wash: str  # behind raw lines and problems
    chosen: str  # behind the selected stage
    scale: float

    def tone(self, name: str) -> str:
        """By the name of a tone; a colour as it is."""
        known = {"good": self.green, "amber": self.amber, "red": self.red, "verdigris": self.verdigris, "ink": self.ink}
        return name if name.startswith("#") else known.get(name, self.soft)


PAPER = Palette(
    "paper", "#F8F6F0", "#FFFFFF", "#E2DCCF", "#22303C", "#6B7680", "#A8481F", "#FFFFFF", "#1F6F6B", "#9A6414",
    "#A12D3A", "#3C7A3F", "#F3EEE5", "#F3F1EA", 1.0,
)  # fmt: skip
PROJECTOR = Palette(
    "projector", "#14191E", "#1D252C", "#38434D", "#F2EFE8", "#B4BEC6", "#E07B4C", "#14191E", "#5CC2BB", "#E5B357",
    "#F08A92", "#7CC47F", "#262F37", "#232C34", 1.18,
)  # fmt: skip


def hue(palette: Palette, colour: str) -> str:
    """A group's colour, lightened where the ground is dark so that it keeps its contrast."""
    if palette.name == "paper":
        return colour
    red, green, blue = (int(colour[at : at + 2], 16) for at in (1, 3, 5))
    return "#" + "".join(f"{round(part + (255 - part) * 0.45):02X}" for part in (red, green, blue))
