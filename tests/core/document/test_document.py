"""The document: strict, exact in its round trip, and clear about what is wrong."""

import json
import unittest

from hypothesis import given
from hypothesis import strategies as st

from isbjorn.core import IsbjornError, Shot
from isbjorn.core.document import Curve, Emitter
from isbjorn.core.document.files import parse_shot, shot_from_text, shot_schema, shot_to_text
from isbjorn.demo.beacon import beacon, first_shot
from tests.shots import one_emitter


class RoundTrip(unittest.TestCase):
    def test_file_and_back_is_the_same_shot(self) -> None:
        for shot in (beacon("pier.mp4"), first_shot("New"), Shot()):
            self.assertEqual(shot_from_text(shot_to_text(shot)), shot)

    @given(st.floats(0, 1e5), st.floats(0, 100), st.integers(0, 2**53 - 1), st.text(min_size=1, max_size=20))
    def test_any_number_and_name_survives(self, speed: float, spread: float, seed: int, name: str) -> None:
        shot = one_emitter(name=name, seed=seed, emitter={"speed": {"value": speed, "spread": spread}})
        self.assertEqual(shot_from_text(shot_to_text(shot)), shot)

    def test_a_bare_number_is_read_as_its_value(self) -> None:
        self.assertEqual(Emitter.model_validate({"rate": 7}).rate.value, 7)


class Refusals(unittest.TestCase):
    def refused(self, given: object) -> str:
        with self.assertRaises(IsbjornError) as caught:
            parse_shot(given)
        return str(caught.exception)

    def test_the_field_and_the_range_are_named(self) -> None:
        reported = self.refused({"emitters": [{"rate": -4}]})
        self.assertIn("emitters.0.rate", reported)
        self.assertIn("0 to 1e+06 /s", reported)

    def test_bad_numbers_never_enter(self) -> None:
        for field, value in (
            ("rate", float("nan")), ("rate", float("inf")), ("lifespan", -1), ("size", -2), ("size", 1e9), ("speed", -5),
            ("spread", 400), ("opacity", 101), ("limit", -1), ("pre_roll_s", float("inf")), ("start_s", float("nan")),
        ):  # fmt: skip
            with self.subTest(field=field, value=value):
                self.assertIn(field, self.refused({"emitters": [{field: value}]}))

    def test_a_shot_without_frames_is_refused(self) -> None:
        self.assertIn("at least one frame", self.refused({"first_frame": 10, "last_frame": 9}))

    def test_unknown_fields_are_not_lost_silently(self) -> None:
        self.assertIn("sped", self.refused({"emitters": [{"sped": 4}]}))

    def test_drivers_that_are_not_offered_are_refused_not_ignored(self) -> None:
        curve = {"points": [{"at": 0, "value": 1}]}
        keyed = {"value": 1, "keys": [{"at_s": 0, "value": 1}]}
        self.assertIn("keys", self.refused({"emitters": [{"body": {"softness": keyed}}]}))
        self.assertIn("over-life", self.refused({"emitters": [{"rate": {"value": 1, "over_life": curve}}]}))
        self.assertIn("needs a first", self.refused({"emitters": [{"size": {"value": 1, "over_life_to": curve}}]}))
        self.assertIn(
            "driven by speed", self.refused({"emitters": [{"mass": {"value": 1, "source": {"measure": "speed"}}}]})
        )
        far = {"value": 1, "keys": [{"at_s": 0, "value": -3}]}
        self.assertIn("key at 0 s", self.refused({"emitters": [{"size": far}]}))

    def test_links_must_join_things_of_the_cast(self) -> None:
        self.assertIn("links[0]", self.refused({"links": [{"force": "a", "emitter": "b"}]}))
        self.assertIn("same", self.refused({"emitters": [{"id": "same"}, {"id": "same"}]}))

    def test_curves_must_be_in_order_of_age(self) -> None:
        with self.assertRaises(ValueError):
            Curve.model_validate({"points": [{"at": 0.5, "value": 1}, {"at": 0.2, "value": 1}]})

    def test_damaged_and_foreign_files_are_named(self) -> None:
        whole = shot_to_text(Shot())
        for text, word in (
            (whole[:100], "JSON"),
            ('{"a": 1}', "not a shot"),
            ("[]", "not a shot"),
            (b"\xff\xfe\x00", "JSON"),
        ):
            with self.subTest(word), self.assertRaises(IsbjornError) as caught:
                shot_from_text(text, "pier.json")
            self.assertIn("pier.json", str(caught.exception))
            self.assertIn(word, str(caught.exception))

    def test_a_newer_version_says_so(self) -> None:
        with self.assertRaises(IsbjornError) as caught:
            shot_from_text(json.dumps({"format": "isbjorn-shot", "version": 99}))
        self.assertIn("newer", str(caught.exception))


class Schema(unittest.TestCase):
    def test_every_number_carries_unit_range_and_clock(self) -> None:
        numbers = 0
        for definition in shot_schema()["$defs"].values():
            for name, field in definition.get("properties", {}).items():
                if any(part.get("$ref", "").endswith("/Number") for part in field.get("allOf", [])):
                    numbers += 1
                    self.assertLessEqual(
                        {"unit", "low", "high", "clock", "spread", "life"}, set(field["isbjorn"]), name
                    )
        self.assertGreater(numbers, 15)


if __name__ == "__main__":
    unittest.main()
