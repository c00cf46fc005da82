"""Formulas that are straight in their parameters, held against the certified values of the Statistical Reference Datasets for linear
regression (NIST, 1998): all of them, the polynomial of degree ten among them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from common_bench.lesson.table_fit import fitted_table
from common_bench.model.trouble import FindingTrouble

Rows = list[tuple[float, ...]]
Certified = dict[str, tuple[float, float]]
FIFTH = "y = a + b*x + c*x^2 + d*x^3 + f*x^4 + g*x^5"


def pairs(text: str) -> Rows:
    """Rows of (x, y) from y and x in turn, as they are published."""
    numbers = [float(word) for word in text.split()]
    return list(zip(numbers[1::2], numbers[::2], strict=True))


def fifth(values: list[float]) -> Rows:
    return [(float(x), y) for x, y in enumerate(values)]


NORRIS = pairs(
    "0.1 0.2 338.8 337.4 118.1 118.2 888.0 884.6 9.2 10.1 228.1 226.5 668.5 666.3 998.5 996.3 449.1 448.6 778.9 777.0 559.2 558.2"
    " 0.3 0.4 0.1 0.6 778.1 775.5 668.8 666.9 339.3 338.0 448.9 447.5 10.8 11.6 557.7 556.0 228.3 228.1 998.0 995.8 888.8 887.6"
    " 119.6 120.2 0.3 0.3 0.6 0.3 557.6 556.8 339.3 339.1 888.0 887.2 998.5 999.0 778.9 779.0 10.2 11.1 117.6 118.3 228.9 229.2"
    " 668.4 669.1 449.2 448.9 0.2 0.5"
)
PONTIUS = pairs(
    ".11019 150000 .21956 300000 .32949 450000 .43899 600000 .54803 750000 .65694 900000 .76562 1050000 .87487 1200000"
    " .98292 1350000 1.09146 1500000 1.20001 1650000 1.30822 1800000 1.41599 1950000 1.52399 2100000 1.63194 2250000"
    " 1.73947 2400000 1.84646 2550000 1.95392 2700000 2.06128 2850000 2.16844 3000000 .11052 150000 .22018 300000"
    " .32939 450000 .43886 600000 .54798 750000 .65739 900000 .76596 1050000 .87474 1200000 .98300 1350000 1.09150 1500000"
    " 1.20004 1650000 1.30818 1800000 1.41613 1950000 1.52408 2100000 1.63159 2250000 1.73965 2400000 1.84696 2550000"
    " 1.95445 2700000 2.06177 2850000 2.16829 3000000"
)
LONGLEY = [
    tuple(float(word) for word in row.split())
    for row in """60323 83.0 234289 2356 1590 107608 1947
61122 88.5 259426 2325 1456 108632 1948
60171 88.2 258054 3682 1616 109773 1949
61187 89.5 284599 3351 1650 110929 1950
63221 96.2 328975 2099 3099 112075 1951
63639 98.1 346999 1932 3594 113270 1952
64989 99.0 365385 1870 3547 115094 1953
63761 100.0 363112 3578 3350 116219 1954
66019 101.2 397469 2904 3048 117388 1955
67857 104.6 419180 2822 2857 118734 1956
68169 108.4 442769 2936 2798 120445 1957
66513 110.8 444546 4681 2637 121950 1958
68655 112.6 482704 3813 2552 123366 1959
69564 114.2 502601 3931 2514 125368 1960
69331 115.7 518173 4806 2572 127852 1961
70551 116.9 554894 4007 2827 130081 1962""".splitlines()
]
FILIP = pairs(
    "0.8116 -6.860120914 0.9072 -4.324130045 0.9052 -4.358625055 0.9039 -4.358426747 0.8053 -6.955852379 0.8377"
    " -6.661145254 0.8667 -6.355462942 0.8809 -6.118102026 0.7975 -7.115148017 0.8162 -6.815308569 0.8515 -6.519993057"
    " 0.8766 -6.204119983 0.8885 -5.853871964 0.8859 -6.109523091 0.8959 -5.79832982 0.8913 -5.482672118 0.8959 -5.171791386"
    " 0.8971 -4.851705903 0.9021 -4.517126416 0.909 -4.143573228 0.9139 -3.709075441 0.9199 -3.499489089 0.8692 -6.300769497"
    " 0.8872 -5.953504836 0.89 -5.642065153 0.891 -5.031376979 0.8977 -4.680685696 0.9035 -4.329846955 0.9078 -3.928486195"
    " 0.7675 -8.56735134 0.7705 -8.363211311 0.7713 -8.107682739 0.7736 -7.823908741 0.7775 -7.522878745 0.7841 -7.218819279"
    " 0.7971 -6.920818754 0.8329 -6.628932138 0.8641 -6.323946875 0.8804 -5.991399828 0.7668 -8.781464495 0.7633"
    " -8.663140179 0.7678 -8.473531488 0.7697 -8.247337057 0.77 -7.971428747 0.7749 -7.676129393 0.7796 -7.352812702 0.7897"
    " -7.072065318 0.8131 -6.774174009 0.8498 -6.478861916 0.8741 -6.159517513 0.8061 -6.835647144 0.846 -6.53165267 0.8751"
    " -6.224098421 0.8856 -5.910094889 0.8919 -5.598599459 0.8934 -5.290645224 0.894 -4.974284616 0.8957 -4.64454848 0.9047"
    " -4.290560426 0.9129 -3.885055584 0.9209 -3.408378962 0.9219 -3.13200249 0.7739 -8.726767166 0.7681 -8.66695597 0.7665"
    " -8.511026475 0.7703 -8.165388579 0.7702 -7.886056648 0.7761 -7.588043762 0.7809 -7.283412422 0.7961 -6.995678626"
    " 0.8253 -6.691862621 0.8602 -6.392544977 0.8809 -6.067374056 0.8301 -6.684029655 0.8664 -6.378719832 0.8834"
    " -6.065855188 0.8898 -5.752272167 0.8964 -5.132414673 0.8963 -4.811352704 0.9074 -4.098269308 0.9119 -3.66174277 0.9228"
    " -3.2644011"
)
WAMPLER4 = [75901, -204794, 204863, -204436, 253665, -200894, 214131, -185192, 221249, -138370, 315911, -27644, 455253, 197434, 783995, 608816, 1370781, 1303798, 2205519, 2408860, 3444321]  # fmt: skip
SETS: dict[str, tuple[str, Rows, Certified]] = {
    "Norris": ("y = a + b*x", NORRIS, {"a": (-0.262323073774029, 0.232818234301152), "b": (1.00211681802045, 0.429796848199937e-3)}),
    "Pontius": ("y = a + b*x + c*x^2", PONTIUS, {
        "a": (0.673565789473684e-3, 0.107938612033077e-3), "b": (0.732059160401003e-6, 0.157817399981659e-9),
        "c": (-0.316081871345029e-14, 0.486652849992036e-16),
    }),
    "NoInt1": ("y = b*x", [(60.0 + at, 130.0 + at) for at in range(11)], {"b": (2.07438016528926, 0.165289256198347e-1)}),
    "NoInt2": ("y = b*x", [(4.0, 3.0), (5.0, 4.0), (6.0, 4.0)], {"b": (0.727272727272727, 0.420827318078432e-1)}),
    "Wampler1": (FIFTH, fifth([float(sum(x**k for k in range(6))) for x in range(21)]), dict.fromkeys("abcdfg", (1.0, 0.0))),
    "Wampler2": (
        FIFTH, fifth([sum(x**k * 10.0**-k for k in range(6)) for x in range(21)]), {each: (10.0**-k, 0.0) for k, each in enumerate("abcdfg")},
    ),
    "Wampler4": (FIFTH, fifth([float(each) for each in WAMPLER4]), {
        "a": (1.0, 215232.624678170), "b": (1.0, 236355.173469681), "c": (1.0, 77934.3524331583), "d": (1.0, 10147.5507550350),
        "f": (1.0, 564.566512170752), "g": (1.0, 11.2324854679312),
    }),
    "Filip": ("y = b0 + " + " + ".join(f"b{k}*x^{k}" for k in range(1, 11)), FILIP, {
        "b0": (-1467.4896142298, 298.084530995537),
        "b1": (-2772.17959193342, 559.77986547495),
        "b2": (-2316.37108160893, 466.477572127796),
        "b3": (-1127.97394098372, 227.204274477751),
        "b4": (-354.478233703349, 71.6478660875927),
        "b5": (-75.1242017393757, 15.28971787474),
        "b6": (-10.8753180355343, 2.23691159816033),
        "b7": (-1.06221498588947, 0.221624321934227),
        "b8": (-0.0670191154593408, 0.0142363763154724),
        "b9": (-0.00246781078275479, 0.000535617408889821),
        "b10": (-4.02962525080404e-05, 8.96632837373868e-06),
    }),
    "Longley": ("y = " + " + ".join(["b0", *(f"b{k}*x{k}" for k in range(1, 7))]), LONGLEY, {
        "b0": (-3482258.63459582, 890420.383607373), "b1": (15.0618722713733, 84.9149257747669),
        "b2": (-0.358191792925910e-1, 0.334910077722432e-1), "b3": (-2.02022980381683, 0.488399681651699),
        "b4": (-1.03322686717359, 0.214274163161675), "b5": (-0.511041056535807e-1, 0.226073200069370),
        "b6": (1829.15146461355, 455.478499142212),
    }),
}  # fmt: skip


def table(folder: Path, rows: Rows, heads: list[str]) -> Path:
    path = folder / "set.csv"
    path.write_text("\n".join([",".join(heads), *(",".join(map(repr, row)) for row in rows)]) + "\n", "ascii")
    return path


@pytest.mark.parametrize("name", sorted(SETS))
def test_nine_digits_of_every_parameter_and_deviation(name: str, tmp_path: Path) -> None:
    formula, rows, certified = SETS[name]
    heads = ["x", "y"] if len(rows[0]) == 2 else ["y", *(f"x{k}" for k in range(1, len(rows[0])))]
    found = fitted_table(table(tmp_path, rows, heads), formula)
    assert set(found.values) == set(certified)
    assert ("cancels" in {note.code for note in found.notes}) == (name == "Filip"), "it fits only by huge cancellations"
    for key, (value, deviation) in certified.items():
        assert found.values[key] == pytest.approx(value, rel=1e-9), key
        assert found.number(key).u == pytest.approx(deviation, rel=1e-9, abs=1e-9), key


def test_what_stands_in_a_formula_twice_moves_it_once_as_a_whole(tmp_path: Path) -> None:
    """A parabola whose x is uncertain too is flat where it turns, and x moves it by nothing there."""
    dice, u_x, u_y, made = np.random.default_rng(3), 0.02, 0.02, []
    for _ in range(40):
        x = np.linspace(0.6, 1.4, 40)
        y = 5 - 8 * x + 4 * x**2 + dice.normal(0, u_y, 40)
        rows = [(*each, u_x, u_y) for each in zip((x + dice.normal(0, u_x, 40)).tolist(), y.tolist(), strict=True)]
        found = fitted_table(table(tmp_path, rows, ["x", "y", "u_x", "u_y"]), "y = a + b*x + c*x^2")
        made.append(found.chi_square / found.dof)
    assert 0.85 < np.mean(made) < 1.15, "each reading scatters by as much as is stated"


def test_rows_of_a_table_share_an_error_only_where_they_follow_in_time(tmp_path: Path) -> None:
    """A bend that a straight line leaves is no noise of neighbours where the rows have no time."""
    rows = [(float(x), float(x) + 0.002 * x * x) for x in range(60)]
    plain = fitted_table(table(tmp_path, rows, ["x", "y"]), "y = a + b*x").number("b").u
    timed = fitted_table(table(tmp_path, rows, ["x (s)", "y"]), "y = a + b*x").number("b").u
    by_name = fitted_table(table(tmp_path, rows, ["x (s)", "y"]), "y = a + b*time").number("b").u
    assert timed == pytest.approx(by_name)
    assert timed > 2 * plain


def test_what_cannot_be_told_apart_is_said_in_words(tmp_path: Path) -> None:
    rows = [(float(x), 2.0 * x, 1.0 + 3.0 * x) for x in range(12)]
    with pytest.raises(FindingTrouble, match="cannot tell"):
        fitted_table(table(tmp_path, rows, ["x", "z", "y"]), "y = a + b*x + c*z")
