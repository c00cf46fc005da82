"""The stand-ins behave like the real thing: the pendulum's motion, the cell's settling, every fault and gate."""

from __future__ import annotations

import math
import re

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.special import ellipk

from common_bench.standins.classes import ALIASES
from common_bench.standins.dialects import SPEECHES
from common_bench.standins.faults import FAULTS, KIT
from common_bench.standins.pendulum import GRAVITY, Pendulum
from common_bench.standins.worlds import fading_capacitor, warm_baths
from common_bench.standins.worlds.swinging_bottles import WORLD, BottleKit

HELLO = BottleKit.hello


def kit_of(**more: object) -> BottleKit:
    kit = BottleKit(WORLD.benches(1)[0], 9, **more)  # type: ignore[arg-type]
    kit.restart(0.0)
    return kit


def rows_of(data: bytes) -> np.ndarray:
    lines = [line for line in data.split(b"\r\n") if re.fullmatch(rb"\d+;-?\d+;[\d.]+", line)]
    return np.array([[float(field) for field in line.split(b";")] for line in lines])


@given(st.floats(0.2, 2.0), st.floats(0.05, 1.4))
def test_an_undamped_pendulum_swings_with_the_exact_period_of_its_amplitude(length: float, angle: float) -> None:
    """T = 4 sqrt(L/g) K(sin²(θ0/2)), the complete elliptic integral (Landau and Lifshitz, Mechanics, §11)."""
    bottle, h, t, crossings = Pendulum(length, 0.2, 0.0, angle), 0.002, 0.0, []
    energy = -GRAVITY / length * math.cos(angle)
    while len(crossings) < 4:
        before = bottle.angle
        bottle.step(h)
        t += h
        if before > 0 >= bottle.angle or before < 0 <= bottle.angle:
            crossings.append(t - h * bottle.angle / (bottle.angle - before))
    exact = 4 * math.sqrt(length / GRAVITY) * float(ellipk(math.sin(angle / 2) ** 2))
    assert crossings[2] - crossings[0] == pytest.approx(exact, rel=1e-5)
    assert 0.5 * bottle.speed**2 - GRAVITY / length * math.cos(bottle.angle) == pytest.approx(energy, rel=1e-8)


def test_damping_takes_the_amplitude_away_at_its_rate() -> None:
    bottle = Pendulum(0.8, 0.2, 0.05, 0.1)
    tops = []
    for _ in range(20_000):
        before = bottle.speed
        bottle.step(0.001)
        if before > 0 >= bottle.speed:
            tops.append(bottle.angle)
    period = 2 * math.pi * math.sqrt(0.8 / GRAVITY)
    ratios = np.array(tops[1:]) / np.array(tops[:-1])
    np.testing.assert_allclose(ratios, math.exp(-0.05 * period), rtol=2e-3)


def test_the_cell_shows_what_hangs_on_it_in_its_own_counts() -> None:
    kit = kit_of()
    bench = kit.bench
    for kilograms, label in ((0.0, "nothing"), (0.1, "100 g"), (0.35, "0.35 kg")):
        kit.hang(label)
        kit.until(kit._world + 4.0)
        rows = rows_of(kit.until(kit._world + 2.0))
        expected = bench.zero + bench.counts_per_newton * kilograms * GRAVITY
        assert rows[:, 1].mean() == pytest.approx(expected, abs=5 * bench.noise / math.sqrt(len(rows)))
        assert rows[:, 1].std() == pytest.approx(bench.noise, rel=0.35)
    kit.hang("bottle")
    swinging = rows_of(kit.until(kit._world + 4.0))
    assert swinging[:, 1].std() > 20 * bench.noise
    for wrong in ("a cow", "30 kg", "100", "-5 g"):
        with pytest.raises(ValueError, match=r"hung|carries"):
            kit.hang(wrong)


def test_its_clock_is_a_little_wrong_and_a_fault_makes_it_more_so() -> None:
    for drift in (0.0, 3e-4):
        kit = kit_of()
        kit.drift = drift
        rows = rows_of(kit.until(600.3))
        counted = (rows[-1, 0] - rows[0, 0]) / 1000
        assert counted / (600.0 - 0.02) - 1 == pytest.approx(kit.bench.clock_error + drift, abs=4e-5)


def test_the_same_orders_give_the_same_bytes_and_cutting_time_changes_nothing() -> None:
    one, other = kit_of(), kit_of()
    whole = one.until(6.0)
    assert b"".join(other.until(at / 10) for at in range(61)) == whole
    assert whole.startswith(HELLO + b"\r\nms;load;temp\r\n0;")


@pytest.mark.parametrize("fault", sorted(KIT))
def test_every_fault_of_a_kit_has_words_and_can_be_had(fault: str) -> None:
    kit = kit_of()
    kit.until(1.0)
    KIT[fault][1](kit)
    data = kit.until(12.0)
    assert FAULTS[fault]
    rows = rows_of(data)
    seen = {
        "silent": not data, "long line": len(data) > 1_000_000, "no text": bytes(range(128, 256)) in data,
        "names again": data.count(b"ms;load;temp") == 1, "stuck": len(rows) and len(set(rows[:, 1])) == 1,
        "saturated": len(rows) and np.mean(rows[:, 1] == 2**23 - 1) > 0.8, "floating": len(rows) and rows[:, 1].std() > 800,
        "hum50": len(rows) and np.ptp(rows[:, 1]) > 0, "hum60": len(rows) and rows[:, 1].std() > 2000, "weak": data.count(HELLO) >= 2,
        "noise": any(each > 127 for each in data), "half lines": len(rows) and (np.diff(rows[:, 0]) < 0).sum() > 5,
        "rubbish": not len(rows), "endless rubbish": not len(rows), "sign rubbish": not len(rows), "mostly rubbish": 10 < len(rows) < 200,
        "bursts": len(rows) > 300, "drift": kit.drift == 3e-4, "wrap": kit.clock_from > 4e9,
    }  # fmt: skip
    assert seen.get(fault, len(rows) > 400), fault


def test_a_clock_wraps_within_five_seconds_of_a_restart() -> None:
    kit = kit_of()
    KIT["wrap"][1](kit)
    kit.restart(1.0)
    clock = rows_of(kit.until(8.0))[:, 0]
    assert clock[0] > 4.29e9
    assert clock[-1] < 3000
    assert (np.diff(clock) < 0).sum() == 1


@pytest.mark.parametrize(("gate", "opens"), [("button", None), ("menu", b"s"), ("asked", b"?")])
def test_a_gate_keeps_a_kit_silent_until_it_is_opened(gate: str, opens: bytes | None) -> None:
    kit = kit_of(gate=gate)
    before = kit.until(3.0)
    assert not len(rows_of(before))
    assert before.startswith(HELLO)
    kit.hear(b"x")
    assert not len(rows_of(kit.until(4.0)))
    kit.press_button() if opens is None else kit.hear(opens)
    after = rows_of(kit.until(5.0))
    assert len(after) == (1 if gate == "asked" else pytest.approx(50, abs=2))


def test_a_lamp_is_put_on_and_off_by_commands() -> None:
    kit = kit_of()
    kit.until(1.0)
    kit.hear(b"L1\n")
    assert (kit.lamp, b"lamp on" in kit.until(1.2)) == (True, True)
    kit.hear(b"L0\n")
    assert (kit.lamp, b"lamp off" in kit.until(1.4)) == (False, True)


@pytest.mark.parametrize("name", sorted(SPEECHES))
def test_every_dialect_speaks_in_whole_lines(name: str) -> None:
    speech, kit = SPEECHES[name], kit_of(dialect=name)
    data = kit.until(4.0)
    assert data.endswith(speech.end)
    lines = [line for line in data.split(speech.end) if line]
    assert lines[0] == HELLO
    assert len(lines) > (4 if name == "on-change" else 150)
    assert speech.about


@given(st.integers(1, 32), st.integers(0, 10**6))
def test_a_class_has_as_many_different_benches_as_are_asked_for(count: int, seed: int) -> None:
    benches = WORLD.benches(count, seed)
    assert len({bench.alias for bench in benches}) == count
    wrong = [bench.alias for bench in benches if abs(float(bench.stated["length"].split()[0]) - bench.length) > 0.03]
    assert wrong == (["Flint"] if count >= 3 else [])
    assert set(ALIASES[:count]) == {bench.alias for bench in benches}


def test_a_bath_kit_settles_as_its_probe_does_and_sends_the_counts_of_its_divider() -> None:
    bench = warm_baths.WORLD.benches(1)[0]
    kit = warm_baths.BathKit(bench, 9)
    kit.restart(0.0)
    kit.hang("0 °C")
    rows = rows_of(kit.until(60.0))
    assert len(rows) == pytest.approx(597, abs=5), "ten a second"
    ohms = bench.ohms_at_room * math.exp(bench.b * (1 / 273.15 - 1 / 298.15))
    assert rows[-100:, 1].mean() == pytest.approx(4095 * ohms / (ohms + 10_000), abs=1.0)
    half_way = rows[:, 0][np.argmax(rows[:, 1] > (rows[0, 1] + rows[-1, 1]) / 2)] / 1000
    assert 0.4 * bench.settling < half_way < 1.2 * bench.settling
    for refused in ("100 g", "200 °C", "warm"):
        with pytest.raises(ValueError, match="bath"):
            kit.hang(refused)
    kit.hang("nothing")
    assert (
        warm_baths.WORLD.benches(6)[4].settling
        > 2 * max(b.settling for b in warm_baths.WORLD.benches(6) if b.alias != "Marble") * 0.9
    )


def test_what_a_sensor_sees_goes_on_while_its_cable_is_pulled() -> None:
    bench = fading_capacitor.WORLD.benches()[0]
    kit = fading_capacitor.WORLD.kit(bench, 9)
    kit.hang("charged")
    kit.restart(0.0)
    kit.until(3.0)
    kit.hang("let go")
    tau = bench.resistance * bench.capacitance
    kit.restart(3.0 + 2 * tau - kit.start_up)  # plugged in again
    counts = rows_of(kit.until(3.0 + 2 * tau + 1e-9))[0, 1]
    assert (counts - bench.zero) / bench.counts_per_volt == pytest.approx(4.8 * math.exp(-2), abs=0.03)
