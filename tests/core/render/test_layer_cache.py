"""After an edit only what it changes is drawn again, and the picture equals one drawn without the cache."""

import unittest
from typing import Any
from unittest import mock

import numpy as np

from isbjorn.core.document import Shot
from isbjorn.core.document.files import parse_shot
from isbjorn.core.frame import Solver, draw_particles
from isbjorn.core.render.composite.layer_cache import LayerCache
from isbjorn.core.render.draw.context import RenderContext
from isbjorn.core.simulate.checkpoints import StateCache

_SOFT = {"kind": "soft disc"}


def _given() -> dict[str, Any]:
    def emitter(name: str, across: float, **more: Any) -> dict[str, Any]:
        return {
            "id": name, "name": name, "across": across, "rate": 60, "lifespan": 2, "size": {"value": 14, "spread": 3},
            "body": _SOFT, **more,
        }  # fmt: skip

    return {
        "width": 320, "height": 180,
        "emitters": [
            emitter("a", -80), emitter("b", -40, finish=[{"kind": "glow"}]), emitter("c", 0, group="g", blend="screen"),
            emitter("d", 30, group="g"), emitter("e", 60, hidden_by=["m"], lit=100, blend="multiply"),
            emitter("f", 90, use={"kind": "glass"}), emitter("h", 90, body={"kind": "star"}, trail={}),
            emitter("i", 0, use={"kind": "matte", "of": "b"}, size=120),
            emitter("j", -30, use={"kind": "cut", "of": "i"}, size=60), emitter("q", 30, use={"kind": "cut", "of": "d"}, size=30),
            emitter("p", 90, use={"kind": "cut", "of": "plate"}, size=60),
        ],
        "groups": [{"id": "g", "finish": [{"kind": "blur", "sigma": 2}]}],
        "mattes": [{"id": "m", "across": 60}], "lights": [{"id": "l", "across": 60, "carried_by": "k"}],
        "markers": [{"id": "k"}], "forces": [{"kind": "gravity", "id": "down"}],
        "links": [{"force": "down", "emitter": "h"}, {"force": "down", "emitter": "g"}],
        "background": "#203040", "finish": [{"kind": "grade", "exposure": 0.2}], "camera": {"shutter": 90},
    }  # fmt: skip


def _edits() -> list[Any]:
    """Each changes one thing; some are made twice, as a drag makes them."""

    def put(where: str, value: Any) -> Any:
        def edit(given: dict[str, Any]) -> None:
            *before, last = where.split(".")
            at: Any = given
            for step in before:
                at = at[int(step)] if isinstance(at, list) else at[step]
            at[last] = value

        return edit

    return [
        put("emitters.0.size", 20), put("emitters.0.size", 21), put("emitters.1.opacity", 60), put("emitters.1.opacity", 61),
        put("emitters.1.opacity", 62), put("emitters.3.rate", 90), put("groups.0.blend", "add"),
        put("groups.0.finish", [{"kind": "blur", "sigma": 4}]), put("markers.0.up", 12), put("markers.0.up", 14),
        put("mattes.0.feather", 20), put("forces.0.strength", 2), put("forces.0.strength", 3), put("emitters.7.size", 80),
        put("emitters.5.use", {"kind": "glass", "amount": 60}), put("emitters.6.on", False), put("emitters.6.on", True),
        put("camera.shutter", 180), put("finish", [{"kind": "grade", "exposure": 1}]), put("background", "#000000"),
        put("emitters.2.body", {"kind": "ring"}), put("emitters.6.colour", {"colours": [{"at": 0, "colour": "#ff0000"}]}),
        put("emitters.8.size", 90), put("emitters.9.size", 45), put("emitters.10.size", 90), put("emitters.10.size", 120),
        put("emitters.0.size", 22), put("emitters.0.size", 23), put("emitters.0.finish", [{"kind": "blur"}]),
        put("finish.0.on", False), put("emitters.6.opacity", 30), put("emitters.6.opacity", 31), put("finish.0.on", True),
    ]  # fmt: skip


class KnownLayers(unittest.TestCase):
    def setUp(self) -> None:
        self.states, self.known = StateCache(), LayerCache()
        self.before: Solver | None = None

    def drawn(self, shot: Shot, known: LayerCache | None, frame: int = 30) -> Any:
        if known is None:
            return draw_particles(Solver(shot), frame, over_plate=True)
        self.before = Solver(shot, self.states, before=self.before)
        return draw_particles(self.before, frame, over_plate=True, known=known)

    def same(self, shot: Shot, frame: int = 30) -> None:
        with_it, without = self.drawn(shot, self.known, frame), self.drawn(shot, None, frame)
        np.testing.assert_array_equal(with_it.picture, without.picture)
        self.assertEqual(with_it.drawn, without.drawn)
        np.testing.assert_array_equal(np.sort(with_it.particles.id), np.sort(without.particles.id))

    def test_the_picture_is_the_same_after_any_edit(self) -> None:
        given = _given()
        self.same(parse_shot(given))
        for number, edit in enumerate(_edits()):
            with self.subTest(number):
                edit(given)
                self.same(parse_shot(given))

    def test_interacting_emitters_are_drawn_again_when_one_moves_differently(self) -> None:
        given = _given() | {"finish": [], "camera": {}}
        given["emitters"] = [e | {"finish": [{"kind": "blur", "sigma": 1}], "speed": 60} for e in given["emitters"][:2]]
        given["groups"], given["forces"] = [], [{"kind": "flock", "id": "flock", "radius": 200}]
        given["links"] = [{"force": "flock", "emitter": name} for name in ("a", "b")]
        for speed in (60, 200, 20):
            given["emitters"][1]["speed"] = speed
            self.same(parse_shot(given))

    def test_and_at_another_moment_and_back(self) -> None:
        shot = parse_shot(_given())
        for frame in (30, 31, 30, 30):
            self.same(shot, frame)

    def test_only_what_is_edited_and_what_is_drawn_straight_onto_it_is_drawn(self) -> None:
        given = _given() | {"finish": [], "camera": {}}
        given["emitters"] = given["emitters"][:8]
        drawn: list[int] = []
        plainly = RenderContext.draw

        def spied(context: RenderContext, number: int, *rest: Any, **more: Any) -> Any:
            drawn.append(number)
            return plainly(context, number, *rest, **more)

        with mock.patch.object(RenderContext, "draw", spied):
            for value in (60, 61, 62):
                drawn.clear()
                given["emitters"][6]["opacity"] = value
                self.drawn(parse_shot(given), self.known)
        # The star alone: the picture below it is cached.
        self.assertEqual(set(drawn), {6})
        with mock.patch.object(RenderContext, "draw", spied):
            drawn.clear()
            given["emitters"][1]["opacity"] = 50
            self.drawn(parse_shot(given), self.known)
        # Units with a separate layer are found in the cache: the group (2, 3), and the one behind the matte (4).
        self.assertEqual(set(drawn) & {2, 3, 4}, set())

    def test_it_holds_no_more_than_it_may(self) -> None:
        self.known.limit_bytes = 320 * 180 * 4 * 4 * 2
        given = _given()
        for value in (60, 61, 62):
            given["emitters"][6]["opacity"] = value
            self.same(parse_shot(given))
            self.assertLessEqual(self.known.nbytes, self.known.limit_bytes)


if __name__ == "__main__":
    unittest.main()
