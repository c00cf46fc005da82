"""A bottle on a string: the real equation of motion, with finite amplitude and damping."""

from __future__ import annotations

import math

GRAVITY = 9.81  # m/s²


class Pendulum:
    """θ'' = −(g/L) sin θ − 2γ θ', integrated by the classical Runge-Kutta method (Kutta, Z. Math. Phys.
    46, 435 (1901)); length L in m, damping γ in 1/s, mass in kg, angle in rad."""

    def __init__(self, length: float, mass: float, damping: float, angle: float, speed: float = 0.0) -> None:
        self.length, self.mass, self.damping = length, mass, damping
        self.angle, self.speed = angle, speed

    def _slopes(self, angle: float, speed: float) -> tuple[float, float]:
        return speed, -GRAVITY / self.length * math.sin(angle) - 2 * self.damping * speed

    def step(self, seconds: float) -> None:
        h = seconds
        a, w = self.angle, self.speed
        a1, w1 = self._slopes(a, w)
        a2, w2 = self._slopes(a + h / 2 * a1, w + h / 2 * w1)
        a3, w3 = self._slopes(a + h / 2 * a2, w + h / 2 * w2)
        a4, w4 = self._slopes(a + h * a3, w + h * w3)
        self.angle = a + h / 6 * (a1 + 2 * a2 + 2 * a3 + a4)
        self.speed = w + h / 6 * (w1 + 2 * w2 + 2 * w3 + w4)

    @property
    def tension(self) -> float:
        """N, along the string: m (g cos θ + L θ'²)."""
        return self.mass * (GRAVITY * math.cos(self.angle) + self.length * self.speed**2)
