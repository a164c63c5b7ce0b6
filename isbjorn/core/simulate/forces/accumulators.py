"""What a particle feels at a place and a moment: the sum over the forces that reach it.

sums: float64 (16,). Acceleration in px/s² (3), drag in 1/s, grip of moving air in 1/s and that air's velocity times its grip
(3), quadratic drag in 1/px, speed limit of attractors in px/s (0: none).
"""

from __future__ import annotations

ACCELERATION, DRAG, GRIP, AIR, QUADRATIC, LIMIT = 0, 3, 4, 5, 8, 9
SIZE = 16
