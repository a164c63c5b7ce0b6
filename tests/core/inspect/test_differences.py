"""Differences between versions in words, the portrait of a life, and what the guides say of lights, mattes and curves."""

import unittest
from fractions import Fraction
from typing import Any

import numpy as np

from isbjorn.core.document.editing.scene_edits import alone, planted, taken_out
from isbjorn.core.document.files import parse_shot
from isbjorn.core.inspect.differences import differences
from isbjorn.core.inspect.guides import guides
from isbjorn.core.inspect.portrait import portrait
from isbjorn.demo.beacon import beacon
from tests.shots import one_emitter


def reported(change: dict[str, Any]) -> list[str]:
    """What is said when fields of Beacon's embers change."""
    before = beacon("p.mp4")
    given = before.model_dump(mode="json")
    given["emitters"][3] |= change
    return differences(before, parse_shot(given))


class Words(unittest.TestCase):
    def test_nothing_is_said_of_what_is_the_same(self) -> None:
        self.assertEqual(differences(beacon("p"), beacon("p")), [])

    def test_each_change_is_one_line(self) -> None:
        for change, line in (
            ({"rate": 400}, "Embers: birth rate 260 → 400 /s"), ({"name": "Sparks"}, "Sparks: name Embers → Sparks"),
            ({"blend": "screen"}, "Embers: blend add → screen"), ({"on": False}, "Embers: switch on → off"),
            ({"body": {"kind": "star"}}, "Embers: body soft disc → star"), ({"trail": {}}, "Embers: trail added"),
            ({"finish": [{"kind": "blur"}]}, "Embers: effects none → blur"), ({"group": None}, "Embers: group fire → nothing"),
            ({"tint": [{"at_s": 1, "colour": "#ff0000"}]}, "Embers: tint: 0 → 1"),
        ):  # fmt: skip
            with self.subTest(line):
                self.assertEqual(reported(change), [line])

    def test_drivers_are_compared_one_by_one(self) -> None:
        rate = {"value": 260, "keys": [{"at_s": 0, "value": 1}, {"at_s": 2, "value": 9}], "flutter": {"amount": 3}}
        self.assertEqual(
            reported({"rate": rate}), ["Embers: birth rate: flutter added", "Embers: birth rate: 0 → 2 keys"]
        )

    def test_the_cast_the_reach_and_the_shot(self) -> None:
        before = beacon("p")
        given = taken_out(before, "ash").model_dump(mode="json")
        given["emitters"].append({"id": "snow", "name": "Snow"})
        given["links"].append({"force": "air", "emitter": "snow"})
        given["rate"] = "30"
        given["camera"]["shutter"] = 90
        given["finish"] = [{"kind": "grade"}]
        found = differences(before, parse_shot(given))
        for line in (
            "Ash: emitter removed", "Snow: emitter added", "Air now reaches Snow", "Shot: frame rate 25 → 30",
            "Shot: camera shutter 180 → 90 °", "Shot: finish none → grade",
        ):  # fmt: skip
            self.assertIn(line, found)


class Portrait(unittest.TestCase):
    def of(self, **emitter: Any) -> np.ndarray:
        shot = one_emitter(emitter={"size": 20, "body": {"kind": "hard disc"}, **emitter})
        return portrait(shot, 0, Fraction(2), count=10, cell=40)

    def cells(self, picture: np.ndarray, channel: int = 3) -> np.ndarray:
        return picture[..., channel].reshape(40, 10, 40).sum(axis=(0, 2))

    def test_each_age_stands_in_its_own_square(self) -> None:
        rises = {
            "value": 100,
            "over_life": {
                "points": [{"at": 0, "value": 0, "joint": "straight"}, {"at": 1, "value": 1, "joint": "straight"}]
            },
        }
        light = self.cells(self.of(opacity=rises))
        np.testing.assert_allclose(light / light[-1], (np.arange(10) + 0.5) / 9.5, atol=0.06)

    def test_size_and_colour_are_those_of_the_age(self) -> None:
        falls = {
            "value": 20,
            "over_life": {
                "points": [{"at": 0, "value": 1, "joint": "straight"}, {"at": 1, "value": 0, "joint": "straight"}]
            },
        }
        light = self.cells(self.of(size=falls))
        self.assertTrue((np.diff(light) < 0).all())
        ramp = {"colours": [{"at": 0, "colour": "#ff0000"}, {"at": 1, "colour": "#0000ff"}], "mix": "linear"}
        picture = self.of(colour=ramp)
        self.assertTrue((np.diff(self.cells(picture, 0)) < 0).all())
        self.assertTrue((np.diff(self.cells(picture, 2)) > 0).all())

    def test_spreads_and_layers_do_not_show(self) -> None:
        plain = self.of()
        np.testing.assert_array_equal(
            self.of(trail={}, lines={}, lit=100, finish=[{"kind": "blur"}], use={"kind": "glass"}), plain
        )
        self.assertEqual(float(np.ptp(self.cells(self.of(size={"value": 20, "spread": 15})))), 0)

    def test_the_large_are_made_to_fit_and_the_small_magnified(self) -> None:
        for size in (4, 20, 900):
            wide = (self.of(size=size)[..., 3].max(axis=0)[:40] > 0.5).sum()
            self.assertAlmostEqual(int(wide), min(24, 0.82 * 40), delta=10)
            self.assertLess(wide, 40)


class Guided(unittest.TestCase):
    def test_lights_and_mattes_have_an_outline_and_grips(self) -> None:
        shot = one_emitter(
            lights=[{"id": "l", "across": 100, "radius": 30, "falloff": 50}],
            mattes=[{"id": "m", "width": 200, "height": 100}, {"id": "b", "kind": "bright"}],
        )
        world = {w.id: w for w in guides(shot).world}
        outer, inner = np.array(world["l"].lines[0]), np.array(world["l"].soft[0])
        self.assertAlmostEqual(float(np.hypot(*(outer - [740, 360]).T).mean()), 80, delta=0.1)
        self.assertAlmostEqual(float(np.hypot(*(inner - [740, 360]).T).mean()), 30, delta=0.1)
        self.assertEqual({g.name for g in world["l"].grips}, {"Radius", "Falloff", "Place"})
        box = np.array(world["m"].lines[0])
        self.assertEqual((np.ptp(box[:, 0]), np.ptp(box[:, 1])), (200, 100))
        self.assertEqual(world["b"].lines, [])

    def test_a_grades_curve_is_described_as_the_engine_reads_it(self) -> None:
        curve = {"points": [{"at": 0, "value": 0, "joint": "straight"}, {"at": 1, "value": 0.5, "joint": "straight"}]}
        shot = one_emitter(finish=[{"kind": "blur"}, {"kind": "grade", "curve": curve}])
        tones = guides(shot).tones
        self.assertEqual([t.path for t in tones], ["/finish/1/curve"])
        np.testing.assert_allclose(tones[0].values, np.linspace(0, 0.5, 65), atol=2e-3)

    def test_keyed_steps_of_a_finish_have_their_graph(self) -> None:
        soft = [{"kind": "blur", "sigma": {"value": 1, "keys": [{"at_s": 0, "value": 0}, {"at_s": 4, "value": 9}]}}]
        shot = one_emitter(emitter={"finish": soft, "group": "h"}, groups=[{"id": "h", "finish": soft}], finish=soft)
        paths = {g.path for g in guides(shot).graphs}
        self.assertEqual(paths, {"/finish/0/sigma", "/emitters/0/finish/0/sigma", "/groups/0/finish/0/sigma"})

    def test_stretch_and_channels_have_a_lane_where_they_are_used(self) -> None:
        names = [lane.field for lane in guides(one_emitter()).emitters[0].lanes]
        self.assertNotIn("stretch", names)
        names = [lane.field for lane in guides(one_emitter(emitter={"stretch": 40, "red": 50})).emitters[0].lanes]
        self.assertIn("stretch", names)
        self.assertIn("red", names)


class Kept(unittest.TestCase):
    def test_an_emitter_takes_its_group_mattes_and_aims_along_and_leaves_the_rest(self) -> None:
        shot = parse_shot({
            "emitters": [
                {"id": "a", "group": "g", "hidden_by": ["m"], "colour_by": "distance", "colour_of": "k"}, {"id": "b", "group": "g"},
            ],
            "groups": [{"id": "g", "use": {"kind": "matte", "of": "b"}}], "mattes": [{"id": "m"}, {"id": "n"}],
            "markers": [{"id": "k"}],
        })  # fmt: skip
        kept = alone(shot, "a")
        self.assertEqual([m.id for m in kept.mattes], ["m"])
        self.assertEqual([g.id for g in kept.groups], ["g"])
        onto, name = planted(shot, kept)
        made = next(e for e in onto.emitters if e.id == name)
        self.assertNotEqual(made.group, "g")
        self.assertIn(made.group, {g.id for g in onto.groups})
        self.assertIn(made.hidden_by[0], {m.id for m in onto.mattes})
        self.assertIn(made.colour_of, {m.id for m in onto.markers})

    def test_what_is_taken_out_leaves_no_tie_of_layers(self) -> None:
        shot = parse_shot({
            "emitters": [
                {"id": "a", "group": "g", "hidden_by": ["m"], "colour_by": "distance", "colour_of": "k",
                "use": {"kind": "cut", "of": "b"}},
                {"id": "b"},
            ],
            "groups": [{"id": "g"}], "mattes": [{"id": "m"}], "markers": [{"id": "k"}],
        })  # fmt: skip
        for gone in ("g", "m", "k", "b"):
            shot = taken_out(shot, gone)
        left = shot.emitters[0]
        self.assertEqual(
            (left.group, left.hidden_by, left.colour_of, left.use.of, left.colour_by), (None, (), None, None, "age")
        )


if __name__ == "__main__":
    unittest.main()
