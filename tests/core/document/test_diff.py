"""Things that an edit does not touch are reused: pictures and reports are the same as without reuse."""

import random
import unittest
import unittest.mock
from typing import Any

import numpy as np

from isbjorn.core.appearance.particles import Particles, ParticleSolver
from isbjorn.core.document import Shot
from isbjorn.core.document.editing.diff import changes_between
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.inspect import forecast
from isbjorn.core.inspect.guides import Memory, guides
from isbjorn.core.simulate.checkpoints import StateCache


def _given() -> dict[str, Any]:
    """Emitters that are carried, driven, grouped, limited and reached by keyed, placed and noisy forces."""
    swing = {"value": 3, "flutter": {"times_per_s": 2, "amount": 30}}
    return Shot.model_validate({
        "emitters": [
            {"id": "emitter", "rate": 80, "lifespan": 1.5, "spread": 60, "speed": 120},
            {"id": "b", "rate": 60, "lifespan": 1, "speed": 60, "carried_by": "emitter", "limit": 40},
            {"id": "c", "rate": {"value": 50, "source": {"measure": "number", "thing": "emitter.size", "low": 0, "high": 40}},
             "lifespan": 1, "group": "g", "size": 9},
            {"id": "d", "rate": 40, "group": "g", "lifespan": {"value": 2, "keys": [{"at_s": t, "value": 1 + t} for t in (0, 2)]}},
        ],
        "groups": [{"id": "g"}], "zones": [{"id": "z", "across": 40}], "markers": [{"id": "m", "up": 20}],
        "forces": [
            {"id": "grav", "kind": "gravity", "strength": 2}, {"id": "turb", "kind": "turbulence", "zone": "z", "apart": 30},
            {"id": "pull", "kind": "attractor", "carried_by": "m", "strength": swing}, {"id": "swell", "kind": "displacement"},
            {"id": "wall", "kind": "surface", "up": -60}, {"id": "follow", "kind": "follow", "frame": "emitter"},
        ],
        "links": [
            {"force": "grav", "emitter": "emitter"}, {"force": "turb", "emitter": "b"}, {"force": "turb", "emitter": "g"},
            {"force": "pull", "emitter": "g"}, {"force": "swell", "emitter": "d"}, {"force": "wall", "emitter": "c"},
            {"force": "follow", "emitter": "b"},
        ],
    }).model_dump(mode="json")  # fmt: skip


def _numbers(part: Any) -> list[dict[str, Any]]:
    """Every number within, as it may be edited."""
    if isinstance(part, list):
        return [n for one in part for n in _numbers(one)]
    if not isinstance(part, dict):
        return []
    here = [part] if "spread_shape" in part and "value" in part else []
    return here + [n for name, one in part.items() if name != "source" for n in _numbers(one)]


class Edits(unittest.TestCase):
    def setUp(self) -> None:
        # The speed of the machine may be measured again meanwhile, and does not depend on edits.
        self.enterContext(unittest.mock.patch.object(forecast, "speed", return_value=1.0))

    def same(self, shot: Shot, chained: ParticleSolver, memory: Memory) -> None:
        alone = ParticleSolver(shot)
        for frame in (20, 37):
            for a, b in zip(self.arrays(chained, frame), self.arrays(alone, frame), strict=True):
                np.testing.assert_array_equal(a, b)
        self.assertEqual(
            guides(shot, 20, None, None, "turb", memory).model_dump(), guides(shot, 20, None, None, "turb").model_dump()
        )

    @staticmethod
    def arrays(solver: ParticleSolver, frame: int) -> list[Any]:
        found = solver.at(frame)
        return [found[name] for name in Particles.names()]

    def test_any_number_edited_after_any_other(self) -> None:
        given, dice = _given(), random.Random(7)
        numbers = _numbers({key: given[key] for key in ("emitters", "forces", "zones", "markers", "camera")})
        shot, cache, memory = parse_shot(given), StateCache(), Memory()
        solver = ParticleSolver(shot, cache)
        done = 0
        for number in dice.sample(numbers, 40):
            was = number["value"]
            number["value"] = was * 1.1 + dice.choice((1, 2))
            try:
                shot = parse_shot(given)
            except IsbjornError:
                number["value"] = was
                continue
            solver, done = ParticleSolver(shot, cache, None, solver), done + 1
            with self.subTest(done):
                self.same(shot, solver, memory)
        self.assertGreater(done, 30)

    def test_switches_ties_and_reach(self) -> None:
        given, cache, memory = _given(), StateCache(), Memory()
        solver = ParticleSolver(parse_shot(given), cache)

        def put(at: Any, name: Any, value: Any) -> None:
            at[name] = value

        emitters, forces = given["emitters"], given["forces"]
        for number, (at, name, value) in enumerate([
            (emitters[0], "on", False), (emitters[0], "on", True), (forces[0], "on", False), (emitters[1], "carried_by", None),
            (emitters[2], "group", None), (forces[1], "zone", None), (given, "links", given["links"][:3]), (given, "seed", 5),
            (emitters[3], "seed", 9), (given, "limit", 60), (given, "limit", 90), (forces[2], "frame", "emitter"),
            (emitters[3]["lifespan"], "off", ["keys"]), (given, "forces", forces[::-1]), (given, "emitters", emitters[::-1]),
        ]):  # fmt: skip
            put(at, name, value)
            shot = parse_shot(given)
            solver = ParticleSolver(shot, cache, None, solver)
            with self.subTest(number):
                self.same(shot, solver, memory)


class Touched(unittest.TestCase):
    def edited(self, path: str, value: Any) -> Any:
        before, given = parse_shot(_given()), _given()
        *steps, last = path.split(".")
        at: Any = given
        for step in steps:
            at = at[int(step)] if isinstance(at, list) else at[step]
        at[last] = value
        found = changes_between(before, parse_shot(given))
        return found and (set(found.touched), set(found.moved))

    def test_a_look_moves_no_particle_and_touches_its_readers(self) -> None:
        self.assertEqual(self.edited("emitters.1.opacity.value", 30), ({"b"}, set()))
        # The first one's size drives another's rate.
        self.assertEqual(self.edited("emitters.0.size.value", 30), ({"emitter", "c"}, {"c"}))

    def test_a_place_moves_what_it_carries(self) -> None:
        # `c` depends on a number of it.
        self.assertEqual(self.edited("emitters.0.across.value", 30), ({"emitter", "b", "c"},) * 2)

    def test_a_marker_moves_what_depends_on_it_through_a_force(self) -> None:
        self.assertEqual(self.edited("markers.0.up.value", 30), ({"m", "pull", "c", "d"},) * 2)

    def test_what_touches_surfaces_is_moved_by_its_size(self) -> None:
        self.assertEqual(self.edited("emitters.2.size.value", 30), ({"c"},) * 2)

    def test_the_shot_s_own_numbers_touch_everything(self) -> None:
        self.assertIsNone(self.edited("seed", 4))
        self.assertIsNone(self.edited("rate", "50"))


if __name__ == "__main__":
    unittest.main()
