"""What the Lookout and the guides say of emitters in pieces."""

import unittest
from typing import Any

import numpy as np

from isbjorn.core import Shot, Solver
from isbjorn.core.inspect.guides import guides
from tests.core.inspect.test_lookout import Recognised, notes
from tests.shots import one_emitter

WORD = {"kind": "letters", "text": "Rime", "height": 120}


def word(pieces: dict[str, Any], **fields: Any) -> Shot:
    shot = fields.pop("shot", {})
    emitter = {"shape": WORD, "pieces": {"size": 15, **pieces}, "lifespan": 1.5, "speed": 60, **fields}
    return one_emitter(**{"width": 640, "height": 360, "last_frame": 149, **shot}, emitter=emitter)


class Pieces(Recognised):
    def test_a_title_that_is_as_it_should_be_has_no_note(self) -> None:
        fine = word({"release": {"at_s": 1, "duration": 1}, "assemble": {"at_s": 3.5, "duration": 1}})
        for frame in (0, 40, 70, 149):
            self.assertEqual([note.what for note in notes(fine, frame)], [])

    def test_neither_release_nor_arrival(self) -> None:
        self.fault(word({"release": None}), "pieces at rest")

    def test_too_many_pieces(self) -> None:
        shape = {"kind": "rectangle", "width": 640, "height": 360}
        note = self.fault(word({"size": 2, "release": {"at_s": 1}}, shape=shape), "too many pieces", 0, word="57,600")
        self.assertIsNotNone(note.mend)

    def test_arrivals_after_the_end_of_the_shot(self) -> None:
        late = word({"release": None, "assemble": {"at_s": 5, "duration": 3}})
        self.fault(late, "pieces too late", word="after the end of the shot")

    def test_no_time_between_release_and_arrival(self) -> None:
        hasty = word({"release": {"at_s": 1, "duration": 2}, "assemble": {"at_s": 1.5, "duration": 1}})
        self.fault(hasty, "pieces jump")

    def test_a_front_that_lacks_what_it_reads(self) -> None:
        for by in ("brightness", "picture", "matte", "onsets"):
            with self.subTest(by=by):
                self.fault(word({"release": {"at_s": 1, "by": by}}), "pieces in no order", word="and no ")
        found = self.fault(
            word({"release": {"at_s": 1, "by": "matte"}}, shot={"mattes": [{"id": "m", "kind": "shape"}]}),
            "pieces in no order",
        )
        self.assertEqual(found.mend and found.mend.label, "Use the first matte")

    def test_a_target_outside_the_picture(self) -> None:
        self.fault(word({"release": None, "assemble": {"at_s": 2}}, across=500), "pieces outside", 140)
        self.fault(word({"release": None, "assemble": {"at_s": 2}}, scale=500), "pieces outside", 140)


class Guided(unittest.TestCase):
    def test_the_fronts_with_their_moments_and_handles(self) -> None:
        shot = word({
            "release": {"at_s": 1, "duration": 2, "softness": 0, "angle": 180},
            "assemble": {"at_s": 4, "duration": 1, "by": "point"},
        })  # fmt: skip
        found = guides(shot, 50).emitters[0]
        release, assemble = found.pieces
        self.assertEqual((release.of, assemble.of), ("release", "assemble"))
        self.assertAlmostEqual(release.first_s, 1, delta=0.05)
        self.assertAlmostEqual(release.last_s, 3, delta=0.05)
        dots = np.array(release.dots)
        # The front goes to the left.
        self.assertLess(np.corrcoef(dots[:, 0], dots[:, 2])[0, 1], -0.99)
        fields = [grip.fields for grip in found.shown.grips]
        self.assertIn(["pieces/release/angle"], fields)
        self.assertIn(["pieces/assemble/x", "pieces/assemble/y"], fields)
        # Half of the way at half of the time: a straight line down the middle.
        line = np.array(found.shown.soft[-1])
        self.assertAlmostEqual(float(np.ptp(line[:, 0])), 0, delta=0.01)
        self.assertAlmostEqual(float(line[0, 0]), 320, delta=4)

    def test_the_forecast_counts_what_stands(self) -> None:
        few, many = (guides(word({"size": size, "release": {"at_s": 1}}), 0).cost for size in (20, 4))
        assert few is not None
        assert many is not None
        self.assertGreater(many.fixed_ms, few.fixed_ms)
        shot = word({"size": 20, "release": {"at_s": 1}})
        self.assertEqual(len(Solver(shot).at(0)), guides(shot, 0).emitters[0].pieces[0].pieces)


del Recognised

if __name__ == "__main__":
    unittest.main()
