"""A sweep: numbers found by their pointers, the values proposed for them, and the states of the shot that come of it."""

import unittest

import numpy as np

from isbjorn.core import IsbjornError
from isbjorn.core.document.editing.patching import patched
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.explore.contact_sheet import contact_sheet
from isbjorn.core.explore.number_at import number_at, number_names
from isbjorn.core.explore.sweep import Axis, axis_values, narrowed, sweep
from tests.shots import force, one_emitter

RATE, SPEED = "/emitters/0/rate", "/emitters/0/speed"


def ends(axis: Axis) -> tuple[float | None, float | None]:
    return axis.start, axis.end


class Numbers(unittest.TestCase):
    def test_a_number_says_its_range_and_unit(self) -> None:
        found = number_at(one_emitter(), SPEED)
        self.assertEqual((found.value, found.unit, found.label), (100, "px/s", "Speed"))

    def test_parts_of_a_number_and_plain_numbers_count_too(self) -> None:
        shot = one_emitter(emitter={"speed": {"value": 100, "spread": 30}, "bursts": [{"count": 40}]})
        variation = number_at(shot, f"{SPEED}/spread")
        self.assertEqual((variation.value, variation.unit, variation.low), (30, "px/s", 0))
        seed = number_at(shot, "/emitters/0/seed")
        self.assertTrue(seed.whole)
        self.assertEqual(seed.changes(3.6), [{"op": "replace", "path": "/emitters/0/seed", "value": 4}])
        self.assertEqual(number_at(shot, "/emitters/0/bursts/0/count").value, 40)

    def test_numbers_of_forces_and_shapes(self) -> None:
        shot = one_emitter(emitter={"shape": {"kind": "disc", "radius": 80}}, forces=[force("gravity", strength=3)])
        self.assertEqual(number_at(shot, "/emitters/0/shape/radius").value, 80)
        self.assertEqual(number_at(shot, "/forces/0/strength").owner, shot.forces[0].name)

    def test_numbers_that_mean_nothing_now_are_not_offered(self) -> None:
        shot = one_emitter(emitter={"shape": {"kind": "disc", "radius": 80}})
        thickness = "/emitters/0/shape/thickness"
        self.assertNotIn(thickness, [one.path for one in number_names(shot)])
        shell = one_emitter(emitter={"shape": {"kind": "disc", "radius": 80, "fill": "shell"}})
        self.assertIn(thickness, [one.path for one in number_names(shell)])

    def test_what_is_no_number_is_refused(self) -> None:
        for path in (
            "",
            "/",
            "rate",
            "/emitters/0/name",
            "/emitters/0/on",
            "/emitters/9/rate",
            "/emitters/x",
            "/emitters/0",
        ):
            with self.subTest(path=path), self.assertRaises(IsbjornError):
                number_at(one_emitter(), path)

    def test_keys_move_together(self) -> None:
        keys = [{"at_s": 0, "value": 40}, {"at_s": 4, "value": 80}]
        shot = one_emitter(emitter={"speed": {"value": 7, "keys": keys}})
        number = number_at(shot, SPEED, 4)
        self.assertEqual(number.value, 80)
        after = patched(shot, number.changes(100))
        read = Readings(after).number(after.emitters[0].speed, np.array([0.0, 4.0]))
        np.testing.assert_allclose(read, [60, 100])


class Values(unittest.TestCase):
    def test_a_proposal_has_the_present_value_in_its_middle(self) -> None:
        for path, value in ((RATE, 100), (SPEED, 137.5), ("/emitters/0/direction", 90), ("/emitters/0/size", 0.3)):
            shot = one_emitter(emitter={path.split("/")[-1]: value})
            for count in (3, 5, 7, 9):
                with self.subTest(path=path, count=count):
                    values = axis_values(shot, Axis(path=path), count, 0).values
                    self.assertEqual(len(values), count)
                    self.assertEqual(values[count // 2], value)
                    self.assertEqual(list(values), sorted(values))

    def test_a_proposal_stays_in_the_range_of_the_number(self) -> None:
        for opacity in (0, 3, 100):
            found = axis_values(one_emitter(emitter={"opacity": opacity}), Axis(path="/emitters/0/opacity"), 7, 0)
            self.assertGreaterEqual(min(found.values), 0)
            self.assertLessEqual(max(found.values), 100)

    def test_nothing_is_a_value_to_start_from(self) -> None:
        found = axis_values(one_emitter(emitter={"spin": 0}), Axis(path="/emitters/0/spin"), 5, 0)
        self.assertEqual(len(set(found.values)), 5)
        self.assertIn(0, found.values)

    def test_by_the_same_step_or_by_the_same_factor(self) -> None:
        even = axis_values(one_emitter(), Axis(path=RATE, start=10, end=90, spacing="even"), 5, 0)
        self.assertEqual(even.values, (10, 30, 50, 70, 90))
        ratio = axis_values(one_emitter(), Axis(path=RATE, start=1, end=16, spacing="ratio"), 5, 0)
        self.assertEqual(ratio.values, (1, 2, 4, 8, 16))
        turned = axis_values(one_emitter(), Axis(path=RATE, start=90, end=10), 5, 0)
        self.assertEqual(turned.values, even.values)

    def test_no_ratio_from_nothing(self) -> None:
        found = axis_values(one_emitter(), Axis(path=RATE, start=0, end=8, spacing="ratio"), 5, 0)
        self.assertEqual((found.spacing, found.values), ("even", (0, 2, 4, 6, 8)))

    def test_integers_are_swept_without_repetition(self) -> None:
        shot = one_emitter(emitter={"bursts": [{"count": 2}]})
        found = axis_values(shot, Axis(path="/emitters/0/bursts/0/count", start=1, end=4), 7, 0)
        self.assertEqual(found.values, (1, 2, 3, 4))

    def test_narrowing_and_widening(self) -> None:
        even = axis_values(one_emitter(), Axis(path=RATE, start=0, end=100, spacing="even"), 5, 0)
        self.assertEqual(ends(narrowed(even, 50)), (25, 75))
        self.assertEqual(ends(narrowed(even, 0)), (0, 25))
        ratio = axis_values(one_emitter(), Axis(path=RATE, start=1, end=16, spacing="ratio"), 5, 0)
        np.testing.assert_allclose(ends(narrowed(ratio, 4)), (2, 8))
        np.testing.assert_allclose(ends(narrowed(ratio, 4, 2)), (0.25, 64))


class Sheets(unittest.TestCase):
    def test_two_numbers_make_rows_and_columns(self) -> None:
        made = sweep(one_emitter(), Axis(path=RATE, start=10, end=30), Axis(path=SPEED, start=1, end=3), 3, 0)
        self.assertEqual(made.size, (3, 3))
        by_place = {(cell.row, cell.column): cell for cell in made.cells}
        self.assertEqual(len(by_place), 9)
        upper_right = patched(one_emitter(), list(by_place[0, 2].changes)).emitters[0]
        self.assertEqual((upper_right.rate.value, upper_right.speed.value), (30, 3))
        lower_left = patched(one_emitter(), list(by_place[2, 0].changes)).emitters[0]
        self.assertEqual((lower_left.rate.value, lower_left.speed.value), (10, 1))

    def test_the_middle_comes_first(self) -> None:
        made = sweep(one_emitter(), Axis(path=RATE), Axis(path=SPEED), 5, 0)
        self.assertEqual((made.cells[0].row, made.cells[0].column), (2, 2))
        far = [(cell.row - 2) ** 2 + (cell.column - 2) ** 2 for cell in made.cells]
        self.assertEqual(far, sorted(far))

    def test_one_number_is_read_line_by_line(self) -> None:
        made = sweep(one_emitter(), Axis(path=RATE, start=1, end=9), None, 3, 0)
        cells = sorted(made.cells, key=lambda cell: (cell.row, cell.column))
        self.assertEqual([cell.changes[0]["value"] for cell in cells], list(range(1, 10)))

    def test_what_is_no_sheet_is_refused(self) -> None:
        for count in (1, 8):
            with self.assertRaises(IsbjornError):
                sweep(one_emitter(), Axis(path=RATE), None, count, 0)
        with self.assertRaises(IsbjornError):
            sweep(one_emitter(), Axis(path=RATE), Axis(path=RATE), 3, 0)

    def test_a_contact_sheet_that_would_be_too_large_is_refused(self) -> None:
        made = sweep(one_emitter(), Axis(path=RATE), None, 7, 0)
        with self.assertRaises(IsbjornError) as caught:
            next(contact_sheet(one_emitter(), made, [0], 4000))
        self.assertIn("px", caught.exception.what)
