"""Controls: what they lead, performances as keys, MIDI files."""

from __future__ import annotations

import io
import unittest

import mido
import numpy as np

from isbjorn.core import Solver
from isbjorn.core.document import Incoming
from isbjorn.core.document.editing.scene_edits import added, taken_out
from isbjorn.core.document.fields.values import Key
from isbjorn.core.document.files import parse_shot
from isbjorn.core.document.model.emitter import Emitter
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.curves import along
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.evaluate.takes import as_keys, on_lattice, performed, spliced
from isbjorn.core.media.exchange.midi import read_midi


class Leading(unittest.TestCase):
    def test_a_control_leads_numbers_and_follows_its_keys(self) -> None:
        by = {"measure": "number", "thing": "c.value", "makes_low": 0, "makes_high": 200, "combine": "add"}
        shot = parse_shot({
            "controls": [{"id": "c", "name": "Fader", "value": {"value": 0.25}}],
            "emitters": [{"across": {"value": 10, "source": by}, "rate": {"value": 0, "source": by}, "lifespan": 9}],
        })  # fmt: skip
        self.assertEqual(Readings(shot).now(shot.emitters[0].across, 1.0), 60)
        self.assertAlmostEqual(len(Solver(shot).at(50)), 100, delta=2)
        keyed = {
            "value": 0,
            "keys": [{"at_s": 0, "value": 0, "joint": "straight"}, {"at_s": 2, "value": 1, "joint": "straight"}],
        }
        moved = parse_shot({**shot.model_dump(mode="json"), "controls": [{"id": "c", "name": "Fader", "value": keyed}]})
        self.assertAlmostEqual(Readings(moved).now(moved.emitters[0].across, 1.0), 110)
        self.assertNotEqual(Solver(shot).tracks[0].motion, Solver(moved).tracks[0].motion)
        # Taken out, what it led keeps its plain value.
        self.assertIsNone(taken_out(shot, "c").emitters[0].across.source)
        self.assertEqual(added(shot, "control", Emitter).controls[-1].value.value, 0.5)

    def test_values_beyond_its_range_are_refused(self) -> None:
        with self.assertRaisesRegex(IsbjornError, "out of range"):
            parse_shot({"controls": [{"value": 1.5}]})


class Performing(unittest.TestCase):
    def test_it_is_what_had_arrived_by_each_step(self) -> None:
        steps, values = on_lattice(np.array([0.1, 0.15, 0.3]), np.array([5.0, 6.0, 7.0]), 0.0, 0.4, 10)
        np.testing.assert_allclose(steps, [0, 0.1, 0.2, 0.3, 0.4])
        np.testing.assert_array_equal(values, [5, 5, 6, 7, 7])

    def test_scaled_clipped_turned_round_and_smoothed(self) -> None:
        times, arrived = np.array([0.0, 1.0]), np.array([-50.0, 127.0])
        _, values = performed(times, arrived, Incoming(low=0, high=127), (0, 2), 60)
        self.assertEqual((values[0], values[-1]), (0, 1))
        _, turned = performed(times, arrived, Incoming(low=127, high=0), (0, 2), 60)
        self.assertEqual((turned[0], turned[-1]), (1, 0))
        _, smooth = performed(times, arrived, Incoming(low=0, high=127, smooth_s=0.5), (0, 2), 60)
        self.assertAlmostEqual(smooth[90], 1 - np.exp(-0.5 / 0.5), delta=0.02)
        self.assertEqual([Incoming(low=3, high=3).scaled(x) for x in (2, 3)], [0, 1])

    def test_keys_are_few_and_within_the_tolerance(self) -> None:
        steps = np.arange(0, 601) / 60
        values = 0.5 + 0.4 * np.sin(steps) + 0.05 * np.sin(9 * steps)
        keys = as_keys(steps, values, 0.004)
        self.assertLess(len(keys), 120)
        self.assertLessEqual(float(np.abs(along(keys, steps) - values).max()), 0.004 + 1e-9)
        # The same whatever the shot's rate: keys belong to seconds.
        self.assertEqual(keys, as_keys(steps, values, 0.004))

    def test_a_take_replaces_what_lay_within_its_span(self) -> None:
        old = tuple(Key(at_s=t, value=0) for t in (0, 1, 2, 3))
        new = (Key(at_s=0.9, value=1), Key(at_s=2.0, value=1))
        self.assertEqual([(k.at_s, k.value) for k in spliced(old, new)], [(0, 0), (0.9, 1), (2, 1), (3, 0)])
        self.assertEqual(spliced(old, ()), old)


class Midi(unittest.TestCase):
    @staticmethod
    def file(*messages: mido.Message) -> bytes:
        made = mido.MidiFile(ticks_per_beat=480)
        track = mido.MidiTrack()
        made.tracks.append(track)
        track.append(mido.MetaMessage("set_tempo", tempo=500_000))
        track.extend(messages)
        out = io.BytesIO()
        made.save(file=out)
        return out.getvalue()

    def test_notes_controllers_and_bends_at_their_moments(self) -> None:
        content = self.file(
            mido.Message("note_on", note=60, velocity=127, time=480),
            mido.Message("control_change", control=7, value=127, time=240),
            mido.Message("note_on", note=64, velocity=64, time=240), mido.Message("note_off", note=60, time=480),
            mido.Message("note_on", note=64, velocity=0, time=480), mido.Message("pitchwheel", pitch=8191, channel=2, time=0),
        )  # fmt: skip
        lanes = read_midi(content)
        self.assertEqual(
            sorted(lanes), ["bend, channel 3", "controller 7, channel 1", "notes, channel 1", "pitch, channel 1"]
        )
        times, values = lanes["notes, channel 1"]
        np.testing.assert_allclose(times, [0.5, 1.0, 1.5, 2.0])
        np.testing.assert_allclose(values, [1, 1, 64 / 127, 0])
        np.testing.assert_allclose(lanes["controller 7, channel 1"], [[0.75], [1]])
        np.testing.assert_allclose(lanes["pitch, channel 1"][1], [60 / 127, 64 / 127])
        np.testing.assert_allclose(lanes["bend, channel 3"][1], [1])

    def test_what_is_none_is_said(self) -> None:
        for content, why in (
            (b"", "not a MIDI file"),
            (b"MThd none", "not a MIDI file"),
            (self.file(), "no events"),
            (b"\x00" * 500, "not a MIDI"),
        ):
            with self.subTest(content[:8]), self.assertRaisesRegex(IsbjornError, why):
                read_midi(content)


if __name__ == "__main__":
    unittest.main()
