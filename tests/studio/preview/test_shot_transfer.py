"""Shots that are handed to another process, one after the other."""

import pickle
import unittest

from isbjorn.core.document.editing.patching import patched
from isbjorn.core.document.fields.references import LISTS
from isbjorn.demo.shots import bow_wave
from isbjorn.studio.preview.shot_transfer import ShotDecoder, pieces_of


class Handed(unittest.TestCase):
    def setUp(self) -> None:
        self.shot, self.taker = bow_wave("none.mp4"), ShotDecoder()

    def test_it_is_the_shot_that_was_handed_over(self) -> None:
        taken = self.taker(pickle.loads(pickle.dumps(pieces_of(self.shot))))
        self.assertEqual(taken, self.shot)
        self.assertIsNot(taken.emitters[0], self.shot.emitters[0])

    def test_what_did_not_change_is_the_very_object(self) -> None:
        before = self.taker(pieces_of(self.shot))
        edited = patched(self.shot, [{"op": "replace", "path": "/emitters/1/size/value", "value": 7.5}])
        after = self.taker(pieces_of(edited))
        self.assertEqual(after, edited)
        changed = [
            thing.id
            for name in LISTS
            for thing, old in zip(getattr(after, name), getattr(before, name), strict=True)
            if thing is not old
        ]
        self.assertEqual(changed, [self.shot.emitters[1].id])

    def test_another_receiver_knows_nothing_of_it(self) -> None:
        first, pieces = pieces_of(self.shot), pieces_of(self.shot)
        self.taker(first)
        self.assertEqual(ShotDecoder()(pieces), self.shot)

    def test_the_rest_of_a_shot_follows_edits_too(self) -> None:
        self.taker(pieces_of(self.shot))
        edited = patched(self.shot, [{"op": "replace", "path": "/camera/shutter/value", "value": 45}])
        self.assertEqual(self.taker(pieces_of(edited)).camera.shutter.value, 45)
        without = patched(
            self.shot, [{"op": "remove", "path": "/emitters/0"}, {"op": "replace", "path": "/links", "value": []}]
        )
        self.assertEqual(self.taker(pieces_of(without)), without)
