"""Which particles find room: compared with a plain simulation, for any walk through time."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from isbjorn.core.document import Emitter
from isbjorn.core.emit.admission import Admission, fair_shares, most_alive
from tests.shots import births, source

FIELDS = {"rate": 50, "lifespan": {"value": 1.5, "spread": 1}}


def admission(limit: int, **fields: object) -> tuple[Admission, Emitter]:
    fields = {**FIELDS, **fields}
    leaves = source(**fields)
    return Admission(births(**fields), leaves, limit, True), leaves.emitter


def plainly(emitter: Emitter, limit: int, until: float) -> tuple[list[int], int]:
    """The births that are alive at `until`, and how many were refused, by going through all of them one after the other."""
    fields = emitter.model_dump(mode="json")
    numbers, moments = births(**fields).between(-1e9, until)
    lives = source(**fields).lifespans(numbers, moments)
    ends: list[tuple[float, int]] = []
    refused = 0
    for number, moment, life in zip(numbers.tolist(), moments.tolist(), lives.tolist(), strict=True):
        ends = [e for e in ends if e[0] > moment]
        if len(ends) < limit:
            ends.append((moment + life, number))
        else:
            refused += 1
    return sorted(number for end, number in ends if end > until), refused


class Rooms(unittest.TestCase):
    @settings(max_examples=40)
    @given(st.integers(0, 90), st.floats(0, 8), st.sampled_from(["even", "jittered", "random"]), st.floats(0, 2))
    def test_the_admitted_are_those_of_a_plain_simulation(
        self, limit: int, until: float, cadence: str, roll: float
    ) -> None:
        found, emitter = admission(limit, cadence=cadence, pre_roll_s=roll)
        numbers, _, _ = found.between(-1e9, until)
        alive, refused = plainly(emitter, limit, until)
        self.assertEqual(numbers.tolist(), alive)
        self.assertEqual(found.refused(until), refused)

    @settings(max_examples=30)
    @given(st.lists(st.floats(0, 9), min_size=1, max_size=6))
    def test_the_order_of_questions_does_not_show(self, moments: list[float]) -> None:
        asked, _ = admission(30)
        for moment in moments:
            fresh, _ = admission(30)
            self.assertEqual(asked.between(-1e9, moment)[0].tolist(), fresh.between(-1e9, moment)[0].tolist())
            self.assertEqual(asked.refused(moment), fresh.refused(moment))

    def test_no_room_at_all(self) -> None:
        found, _ = admission(0)
        self.assertEqual(len(found.between(-1e9, 5.0)[0]), 0)
        self.assertEqual(found.refused(5.0), plainly(admission(0)[1], 0, 5.0)[1])

    def test_a_life_without_end_fills_up_once(self) -> None:
        found, _ = admission(40, lifespan=0)
        self.assertEqual(found.between(-1e9, 9.0)[0].tolist(), list(range(40)))

    def test_the_bound_is_a_bound(self) -> None:
        for cadence in ("even", "jittered", "random"):
            _, emitter = admission(10**6, cadence=cadence)
            fields = emitter.model_dump(mode="json")
            bound = most_alive(births(**fields), source(**fields), 10.0)
            for until in np.linspace(0, 10, 30):
                self.assertLessEqual(len(plainly(emitter, 10**6, float(until))[0]), bound)


class Shares(unittest.TestCase):
    @given(st.lists(st.tuples(st.floats(0, 1e7), st.integers(0, 10**6)), max_size=12), st.integers(0, 10**6))
    def test_shares_are_fair(self, wishes: list[tuple[float, int]], total: int) -> None:
        demands, limits = [w[0] for w in wishes], [w[1] for w in wishes]
        shares = fair_shares(demands, limits, total)
        wanted = [min(d, m) for d, m in wishes]
        self.assertLessEqual(sum(shares), total)
        for share, want in zip(shares, wanted, strict=True):
            self.assertLessEqual(share, math.ceil(want))
        # An emitter that gets less than it asks for gets no less than any other, except for rounding.
        short = [s for s, w in zip(shares, wanted, strict=True) if s < w]
        if short:
            self.assertGreaterEqual(min(short) + 1, max(shares))

    def test_enough_for_all_is_enough(self) -> None:
        self.assertEqual(fair_shares([10, 20, 30.5], [100, 100, 100], 1000), [10, 20, 31])
        self.assertEqual(fair_shares([], [], 5), [])


if __name__ == "__main__":
    unittest.main()
