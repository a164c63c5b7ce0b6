"""Colours by anything but age, and colours that differ from particle to particle."""

import tempfile
import unittest
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from isbjorn.core import Shot, Solver
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from tests.shots import gravity, one_emitter

RAMP = {"colours": [{"at": 0, "colour": "#000000"}, {"at": 1, "colour": "#ffffff"}], "mix": "linear"}


def shown(frame: int = 60, shot: dict[str, Any] | None = None, **emitter: Any) -> Any:
    return Solver(one_emitter(**(shot or {}), emitter={"colour": RAMP, **emitter})).at(frame)


class By(unittest.TestCase):
    def test_the_moment_of_birth_over_the_shot(self) -> None:
        p = shown(colour_by="birth moment")
        born = 60 / 25 - p.age
        np.testing.assert_allclose(p.colour[:, 0], born / 10, atol=2e-3)

    def test_the_moment_of_birth_comes_round_in_a_loop(self) -> None:
        p = shown(2, {"loop": True}, colour_by="birth moment")
        born = (2 / 25 - p.age) % 10
        np.testing.assert_allclose(p.colour[:, 0], born / 10, atol=2e-3)
        self.assertGreater(float(p.colour.max()), 0.9, "some were born at the end of the round before")

    def test_random_is_even_over_the_gradient_and_stays_with_each(self) -> None:
        early, late = (shown(f, colour_by="random", rate=1500, lifespan=3) for f in (50, 60))
        self.assertAlmostEqual(float(early.colour[:, 0].mean()), 0.5, delta=0.02)
        self.assertAlmostEqual(float(early.colour[:, 0].std()), 1 / 12**0.5, delta=0.01)
        one, other = (dict(zip(p.id.tolist(), p.colour[:, 0].tolist(), strict=True)) for p in (early, late))
        both = set(one) & set(other)
        self.assertGreater(len(both), 1000)
        self.assertEqual([one[n] for n in both], [other[n] for n in both])

    def test_speed_from_one_to_another(self) -> None:
        p = shown(shot={"forces": [gravity(200)]}, colour_by="speed", colour_from=50, colour_to=450)
        speed = np.linalg.norm(p.velocity, axis=1)
        np.testing.assert_allclose(p.colour[:, 0], np.clip((speed - 50) / 400, 0, 1), atol=3e-3)
        self.assertGreater(float(np.ptp(p.colour[:, 0])), 0.3)

    def test_distance_to_a_thing(self) -> None:
        marker = {"id": "m", "across": 30, "up": 100}
        p = shown(shot={"markers": [marker]}, colour_by="distance", colour_of="m", colour_from=0, colour_to=200)
        away = np.linalg.norm(p.position - np.array([30, 100, 0]), axis=1)
        np.testing.assert_allclose(p.colour[:, 0], np.clip(away / 200, 0, 1), atol=3e-3)

    def test_a_distance_to_nothing_is_refused(self) -> None:
        with self.assertRaises(IsbjornError) as caught:
            parse_shot({"emitters": [{"name": "Ash", "colour_by": "distance", "colour_of": "gone"}]})
        self.assertIn("gone", caught.exception.what)

    def test_the_plate_where_and_when_it_was_born(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            picture = np.zeros((72, 128, 3), np.uint8)
            picture[:, :64], picture[:, 64:] = (0, 0, 255), (0, 255, 0)
            cv2.imwrite(str(Path(folder) / "p.png"), picture)
            shot = one_emitter(
                plate={"media": str(Path(folder) / "p.png")},
                emitter={
                    "colour_by": "plate", "shape": {"kind": "rectangle", "width": 800, "height": 100}, "direction": 0, "speed": 300,
                },
            )  # fmt: skip
            from isbjorn.core.frame import Solver as Whole

            p = Whole(shot).at(60)
        born = p.position[:, 0] - p.velocity[:, 0] * p.age
        left, right = born < -10, born > 10
        self.assertGreater(int(left.sum()), 20)
        np.testing.assert_allclose(p.colour[left], np.tile([1, 0, 0], (int(left.sum()), 1)), atol=0.02)
        np.testing.assert_allclose(p.colour[right], np.tile([0, 1, 0], (int(right.sum()), 1)), atol=0.02)

    def test_brightness_and_channels_work_on_any_of_them(self) -> None:
        plain = shown(colour_by="random")
        bright = shown(colour_by="random", brightness=3, red=50)
        np.testing.assert_allclose(bright.colour[:, 1], 3 * plain.colour[:, 1], rtol=1e-4)
        np.testing.assert_allclose(bright.colour[:, 0], 1.5 * plain.colour[:, 0], rtol=1e-4)


class Varied(unittest.TestCase):
    def of(self, colour: str = "#c04020", **emitter: Any) -> np.ndarray:
        shot = one_emitter(emitter={"colour": {"colours": [{"at": 0, "colour": colour}]}, "rate": 800, **emitter})
        return Solver(shot).at(50).colour

    def test_a_third_of_the_wheel_turns_red_to_green_to_blue(self) -> None:
        for turn, wanted in ((0, [1, 0, 0]), (120, [0, 1, 0]), (240, [0, 0, 1]), (-120, [0, 0, 1]), (360, [1, 0, 0])):
            np.testing.assert_allclose(self.of("#ff0000", hue=turn)[0], wanted, atol=1e-4)

    def test_each_varies_alone(self) -> None:
        import colorsys

        def hsv(colours: np.ndarray) -> np.ndarray:
            from isbjorn.core.evaluate.gradients import linear_to_srgb

            return np.array([colorsys.rgb_to_hsv(*c) for c in linear_to_srgb(colours)])

        for column, given in (
            (0, {"hue": {"value": 0, "spread": 10}}), (1, {"saturation": {"value": 80, "spread": 15}}),
            (2, {"lightness": {"value": 80, "spread": 15}}),
        ):  # fmt: skip
            spread = np.ptp(hsv(self.of(**given)), axis=0)
            self.assertGreater(spread[column], 0.03, given)
            self.assertLess(max(np.delete(spread, column)), 2e-3, given)

    def test_no_saturation_is_grey(self) -> None:
        self.assertLess(float(np.ptp(self.of(saturation=0), axis=1).max()), 1e-4)

    def test_light_beyond_white_keeps_its_brightness(self) -> None:
        plain, turned = self.of(brightness=6), self.of(brightness=6, hue=60)
        self.assertAlmostEqual(float(turned.max() / plain.max()), 1, delta=0.01)

    def test_it_disturbs_no_other_draw(self) -> None:
        def at(**more: Any) -> Any:
            return Solver(one_emitter(emitter={"size": {"value": 8, "spread": 4}, "spread": 90, **more})).at(50)

        a, b = at(), at(hue={"value": 0, "spread": 40}, saturation={"value": 90, "spread": 10}, colour_by="random")
        np.testing.assert_array_equal(a.size, b.size)
        np.testing.assert_array_equal(a.position, b.position)


class Document(unittest.TestCase):
    def test_a_shot_from_before_bodies_and_finish_opens_and_looks_the_same(self) -> None:
        old = {
            "format": "isbjorn-shot", "version": 1,
            "emitters": [{"id": "e", "body": {"kind": "soft disc", "softness": 80}, "blend": "add", "order": "farthest first"}],
        }  # fmt: skip
        shot = parse_shot(old)
        self.assertEqual(shot.emitters[0].body.kind, "soft disc")
        self.assertEqual((shot.finish, shot.groups, shot.lights, shot.mattes), ((), (), (), ()))
        # And a body without a kind, as it could be written.
        self.assertEqual(parse_shot({"emitters": [{"body": {"softness": 20}}]}).emitters[0].body.kind, "soft disc")

    def test_ties_of_layers_may_be_neither_loose_nor_of_the_wrong_kind(self) -> None:
        for emitter, shot, word in (
            ({"group": "gone"}, {}, "gone"), ({"group": "m"}, {"markers": [{"id": "m"}]}, "Group: m is not"),
            ({"hidden_by": ["gone"]}, {}, "gone"), ({"use": {"kind": "glass", "of": "gone"}}, {}, "gone"),
            ({"id": "e", "use": {"kind": "matte", "of": "e"}}, {}, "e"),
        ):  # fmt: skip
            with self.subTest(emitter), self.assertRaises(IsbjornError) as caught:
                parse_shot({"emitters": [emitter], **shot})
            self.assertIn(word, caught.exception.what)

    def test_it_comes_back_from_a_file_as_it_was(self) -> None:
        from isbjorn.core.document.files import shot_from_text, shot_to_text
        from isbjorn.demo.beacon import beacon
        from isbjorn.demo.lights import net_lights, rime, skarvoy

        for shot in (beacon("p"), skarvoy("p"), net_lights("p"), rime("p")):
            self.assertEqual(shot_from_text(shot_to_text(shot).encode()), shot)

    def test_the_schema_holds_every_kind(self) -> None:
        from isbjorn.core.document.files import shot_schema

        names = set(shot_schema()["$defs"])
        self.assertLessEqual(
            {"Puff", "Words", "PictureBody", "Glow", "Grade", "Lamp", "Matte", "Group", "Trail"}, names
        )
        self.assertIsInstance(Shot(), Shot)


if __name__ == "__main__":
    unittest.main()
