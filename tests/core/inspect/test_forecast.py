"""The forecast of time counts everything. `isbjorn bench --only forecast_ratio` compares it with measurements."""

import unittest
from types import SimpleNamespace
from typing import Any
from unittest.mock import patch

from isbjorn.core.document import Shot
from isbjorn.core.document.files import parse_shot
from isbjorn.core.document.parts.models import ModelBody
from isbjorn.core.evaluate.geometry.mesh_trees import tree_of
from isbjorn.core.evaluate.geometry.solids import mesh_of_solid
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.frame import Solver, draw_particles
from isbjorn.core.inspect import forecast
from isbjorn.core.inspect.forecast import Forecast, alive_about, speed
from isbjorn.core.inspect.guides import Memory, guides
from isbjorn.core.simulate.track import shares_of


def cost(shot: Shot, frame: int = 50) -> Forecast:
    found = guides(shot, frame).cost
    assert found is not None
    return found


def shot(emitter: dict[str, Any] | None = None, **more: Any) -> Shot:
    one = {"id": "a", "rate": 500, "lifespan": 2, "size": {"value": 8, "spread": 0}, **(emitter or {})}
    return parse_shot({"emitters": [one], **more})


class Forecasts(unittest.TestCase):
    def setUp(self) -> None:
        # The machine's current speed is measured: the comparison uses one speed.
        self.enterContext(patch.object(forecast, "speed", return_value=1.0))

    def test_a_machine_that_is_busy_at_first_is_found_to_be_faster_later(self) -> None:
        clock = SimpleNamespace(monotonic=lambda: now)
        found, measured = type(speed)(), iter((0.3, 1.0, 0.6, 0.9))
        with patch.object(forecast, "time", clock), patch.object(found, "measured", lambda: next(measured)):
            seen = []
            for now in (0.0, 5.0, 15.0, 20.0, 45.0, 105.0, 9000.0):  # noqa: B007
                seen.append(found())
        self.assertEqual(seen, [0.3, 0.3, 1.0, 1.0, 1.0, 1.0, 1.0])
        self.assertEqual(list(measured), [])

    def test_a_span_takes_as_long_as_where_it_takes_longest(self) -> None:
        keys = [{"at_s": 0, "value": 0, "joint": "straight"}, {"at_s": 8, "value": 9000}]
        growing, memory = shot({"rate": {"value": 0, "keys": keys}}), Memory()
        self.assertIsNone(memory.before)
        scene = guides(growing, 0, memory=memory)
        assert memory.before is not None
        assert scene.cost is not None
        most = memory.before.most(growing, 0, 200, 784)
        assert most is not None
        self.assertGreater(most.ms(784, 441), 1.5 * scene.cost.ms(784, 441))
        self.assertEqual(most.ms(784, 441), cost(growing, 200).ms(784, 441))
        early = memory.before.most(growing, 0, 40, 784)
        assert early is not None
        self.assertLess(early.ms(784, 441), most.ms(784, 441))
        # Of another cast nothing is known.
        other = growing.model_copy(update={"emitters": (growing.emitters[0].model_copy(update={"id": "b"}),)})
        self.assertIsNone(memory.before.most(other, 0, 200, 784))

    def test_everything_costs_something(self) -> None:
        plain = cost(shot())
        for name, richer in {
            "more of them": shot({"rate": 2000}), "larger": shot({"size": 40}), "stars": shot({"body": {"kind": "star"}}),
            "trails": shot({"trail": {}}), "lines": shot({"lines": {}}), "repeats": shot({"heads": {}}),
            "an effect": shot({"finish": [{"kind": "glow"}]}), "a shutter": shot(camera={"shutter": 180}),
            "a world": shot(forces=[{"kind": "turbulence", "id": "f"}], links=[{"force": "f", "emitter": "a"}]),
            "effects on all": shot(finish=[{"kind": "blur"}]),
            "models": shot({"body": {"kind": "model"}}),
            "a model that is seen": shot(mattes=[{"id": "m", "kind": "model", "visible": True}]),
            "a model in the light": shot(mattes=[{"id": "m", "kind": "model", "catches": 100}]),
            "a plate": shot(plate={"media": "none.mp4"}),
        }.items():  # fmt: skip
            with self.subTest(name):
                self.assertGreater(cost(richer).ms(1280, 720), plain.ms(1280, 720))

    def test_the_memory_of_models_is_counted_once(self) -> None:
        ball: dict[str, Any] = {"kind": "model", "form": "ball", "detail": 5}
        one = cost(shot({"body": ball})).models_bytes
        # 20,480 triangles: 10,242 points of 12 bytes, four indices and four normals a face.
        self.assertAlmostEqual(one, 10_242 * 12 + 20_480 * (16 + 48), delta=2000)
        both = shot({"body": ball, "shape": ball | {"size": 100}})
        self.assertEqual(cost(both).models_bytes, one)
        surface = {"kind": "surface", "id": "s", "shape": "model", "model": {"form": "ball", "detail": 5}}
        met = cost(shot({"body": ball}, forces=[surface])).models_bytes
        tree = tree_of(mesh_of_solid(ModelBody.model_validate(ball))).nbytes
        self.assertAlmostEqual((met - one) / tree, 1, delta=0.1)
        self.assertEqual(cost(shot()).models_bytes, 0)

    def test_skins_and_waves_cost_what_they_cover(self) -> None:
        grouped = {"group": "g"}, {"groups": [{"id": "g"}]}
        for name, less, more in (
            ("a skin", shot(), shot({"skin": {}})),
            ("a group's skin", shot(grouped[0], **grouped[1]), shot(grouped[0], groups=[{"id": "g", "skin": {}}])),
            ("ripples", shot(), shot({"ripples": {}})),
            ("a larger face", shot({"ripples": {}}), shot({"ripples": {"width": 1600, "length": 900, "tilt": 0}})),
            ("smaller drops", shot({"ripples": {}}), shot({"ripples": {"drop": 3}})),
        ):
            with self.subTest(name):
                self.assertGreater(cost(more).ms(1280, 720), cost(less).ms(1280, 720) + 1)

    def test_what_is_off_costs_nothing_and_the_rest_is_each_one_s(self) -> None:
        off = cost(shot({"on": False}))
        self.assertEqual((off.emitters, off.memory_bytes), ({}, 0))
        self.assertLess(off.ms(1280, 720), cost(shot()).ms(1280, 720))
        self.assertEqual(set(cost(shot()).emitters), {"a"})

    def test_how_many_are_alive_is_about_what_comes(self) -> None:
        keys = {"value": 0, "keys": [{"at_s": 0, "value": 100, "joint": "straight"}, {"at_s": 8, "value": 900}]}
        for one in (
            {"rate": 500}, {"rate": keys}, {"rate": 0, "bursts": [{"at_s": 1, "count": 400}]}, {"rate": 400, "end_s": 1.5},
            {"rate": 500, "limit": 300}, {"rate": 50, "lifespan": 0},
        ):  # fmt: skip
            with self.subTest(one):
                document = shot(one)
                readings = Readings(document)
                share = shares_of(document, readings)["a"]
                reported = alive_about(document, document.emitters[0], readings, float(document.seconds(60)), share)
                true = len(draw_particles(Solver(document), 60, 0.1).particles)
                self.assertAlmostEqual(reported, true, delta=0.25 * true + 3)


if __name__ == "__main__":
    unittest.main()
