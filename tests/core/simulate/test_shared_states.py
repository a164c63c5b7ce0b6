"""States that processes hand each other: the same as one's own, found instead of stepped, and bounded."""

import os
import tempfile
import unittest
import unittest.mock
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from isbjorn.core.document import Shot
from isbjorn.core.frame import Solver, draw_particles
from isbjorn.core.runtime.memory import Cache
from isbjorn.core.runtime.shared_cache import SharedCache
from isbjorn.core.simulate import shared_states, waves
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.integrators.stepped import SteppedIntegrator
from isbjorn.core.simulate.interactions import static_contagion
from isbjorn.core.simulate.interactions.group import InteractionGroup
from isbjorn.core.simulate.shared_states import SharedCaches, packed, unpacked
from isbjorn.core.simulate.spawning.spawned import Offspring
from isbjorn.core.simulate.state import State, empty_state
from isbjorn.core.simulate.state_layout import ROWS
from tests.core.simulate.test_interactions import school

STIRRED = {
    "emitters": [{"id": "a", "rate": 300, "lifespan": 4, "speed": {"value": 80, "spread": 30}, "toward": "anywhere"}],
    "forces": [{"kind": "turbulence", "id": "t", "strength": {"value": 200, "keys": [
        {"at_s": 0, "value": 200}, {"at_s": 1, "value": 100}, {"at_s": 2, "value": 300}, {"at_s": 3, "value": 50}]}}],
    "links": [{"force": "t", "emitter": "a"}],
}  # fmt: skip


def state(n: int, rows: int = 15, seed: int = 0) -> State:
    rng = np.random.default_rng(seed)
    return State(rng.integers(0, 9**9, n), rng.random(n), rng.random((rows, n)).astype(np.float32))


def arrays(solver: Solver, frame: int) -> np.ndarray:
    p = solver.at(frame)
    return np.concatenate([p.id[:, None], p.position, p.velocity, p.age[:, None]], axis=1)


class Beside(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        # All is worth it.
        self.enterContext(unittest.mock.patch.object(shared_states, "WORTH_S", 0.0))

    def solver(self, given: dict[str, object]) -> Solver:
        """As in a separate process: it shares nothing but the folder."""
        return Solver(Shot.model_validate(given), StateCache(shared_caches=SharedCaches.within(self.folder)))

    @contextmanager
    def counted(self, kind: type, name: str) -> Iterator[list[tuple[Any, ...]]]:
        """What a method is called with meanwhile."""
        done: list[tuple[Any, ...]] = []
        real = getattr(kind, name)

        def count(*args: object) -> object:
            done.append(args)
            return real(*args)

        with unittest.mock.patch.object(kind, name, count):
            yield done

    def test_what_another_has_stepped_is_taken_and_is_the_same(self) -> None:
        alone = arrays(Solver(Shot.model_validate(STIRRED)), 75)
        np.testing.assert_array_equal(arrays(self.solver(STIRRED), 75), alone)
        with self.counted(SteppedIntegrator, "advance") as steps:
            np.testing.assert_array_equal(arrays(self.solver(STIRRED), 75), alone)
        self.assertEqual(steps, [])

    def test_a_later_moment_goes_on_from_there(self) -> None:
        alone = arrays(Solver(Shot.model_validate(STIRRED)), 80)
        arrays(self.solver(STIRRED), 75)
        other = self.solver(STIRRED)
        with self.counted(SteppedIntegrator, "advance") as steps:
            np.testing.assert_array_equal(arrays(other, 80), alone)
        # Frame 75 is step 180 of the lattice, frame 80 step 192.
        self.assertEqual({(first, last) for _, _, first, last in steps}, {(180, 192)})

    def test_other_keys_find_only_what_they_have_not_changed(self) -> None:
        for frame in (20, 70):
            arrays(self.solver(STIRRED), frame)
        given = {**STIRRED, "forces": [{**STIRRED["forces"][0]}]}  # type: ignore[index]
        keys = STIRRED["forces"][0]["strength"]["keys"]  # type: ignore[index]
        given["forces"][0]["strength"] = {"value": 200, "keys": [*keys[:3], {"at_s": 3, "value": 500}]}
        for frame in (20, 70):
            alone = arrays(Solver(Shot.model_validate(given)), frame)
            with self.counted(SteppedIntegrator, "advance") as steps:
                np.testing.assert_array_equal(arrays(self.solver(given), frame), alone)
            self.assertEqual(bool(steps), frame == 70)

    def test_a_crowd_is_stepped_by_one_alone(self) -> None:
        alone = [arrays(Solver(Shot.model_validate(school())), frame) for frame in (60, 68)]
        np.testing.assert_array_equal(arrays(self.solver(school()), 60), alone[0])
        with self.counted(InteractionGroup, "_step") as steps:
            np.testing.assert_array_equal(arrays(self.solver(school()), 60), alone[0])
        self.assertEqual(steps, [])
        other = self.solver(school())
        with self.counted(InteractionGroup, "_step") as steps:
            np.testing.assert_array_equal(arrays(other, 68), alone[1])
        self.assertLessEqual(len(steps), 21)
        # Checkpoints serve jumps to an earlier moment.
        with self.counted(InteractionGroup, "_step") as steps:
            arrays(self.solver(school()), 30)
        self.assertLessEqual(len(steps), 20)

    def test_births_out_of_others_are_found_by_one_alone(self) -> None:
        given = {
            "emitters": [*STIRRED["emitters"], {"id": "b", "born_of": "a", "rate": 6, "lifespan": 1}],  # type: ignore[misc]
            "forces": STIRRED["forces"], "links": STIRRED["links"],
        }  # fmt: skip
        alone = arrays(Solver(Shot.model_validate(given)), 60)
        np.testing.assert_array_equal(arrays(self.solver(given), 60), alone)
        for path in self.folder.rglob("*"):
            if path.is_file() and not path.name.startswith("born"):
                # The states themselves, which say all.
                path.unlink()
        with self.counted(Offspring, "_made") as looked_at:
            np.testing.assert_array_equal(arrays(self.solver(given), 60), alone)
        # Of a block that is asked for in part, each step is looked at.
        self.assertLess(len(looked_at), 16)
        for path in self.folder.rglob("*"):
            if path.is_file():
                path.write_bytes(path.read_bytes()[:-8])
        with self.counted(Offspring, "_made") as looked_at:
            np.testing.assert_array_equal(arrays(self.solver(given), 60), alone)
        self.assertGreater(len(looked_at), 48)

    def test_a_contagion_at_rest_is_worked_out_by_one_alone(self) -> None:
        points = {"id": "a", "shape": {"kind": "rectangle", "width": 300, "height": 200}, "rate": 0, "bursts": [{"count": 400}],
                  "lifespan": 0, "speed": 0}  # fmt: skip
        given = {"emitters": [points], "zones": [{"id": "z", "radius": 60}], "links": [{"force": "c", "emitter": "a"}],
                 "forces": [{"kind": "contagion", "id": "c", "seeds": "z", "radius": 25, "pace": 60}]}  # fmt: skip

        def caught() -> Any:
            """As in a separate process."""
            with unittest.mock.patch.object(static_contagion, "_CAUGHT", Cache("states")):
                return self.solver(given).at(12).caught

        with unittest.mock.patch.object(static_contagion, "_on", side_effect=static_contagion._on) as reported:
            first = caught()
            self.assertGreater(reported.call_count, 0)
            self.assertGreater(int((first >= 0).sum()), 50)
            self.assertGreater(int((first < 0).sum()), 0)
            reported.reset_mock()
            np.testing.assert_array_equal(caught(), first)
            self.assertEqual(reported.call_count, 0)
            for path in self.folder.rglob("still*"):
                path.write_bytes(path.read_bytes()[:-8])
            np.testing.assert_array_equal(caught(), first)
            self.assertGreater(reported.call_count, 0)

    def test_waves_are_swung_by_one_alone(self) -> None:
        given = {"emitters": [{"id": "a", "rate": 40, "lifespan": 0.2, "ripples": {"width": 300, "length": 200, "tilt": 0}}],
                 "width": 320, "height": 240}  # fmt: skip

        def picture() -> Any:
            """As in a separate process."""
            with unittest.mock.patch.object(waves, "_MODES", Cache("states")):
                return draw_particles(self.solver(given), 45).picture

        first = picture()
        with unittest.mock.patch.object(waves, "after", side_effect=waves.after) as swung:
            np.testing.assert_array_equal(picture(), first)
        # From the tenth of a second before it to the frame.
        self.assertLessEqual(swung.call_count, 1)
        for path in self.folder.rglob("waves*"):
            path.write_bytes(b"")
        with unittest.mock.patch.object(waves, "after", side_effect=waves.after) as swung:
            np.testing.assert_array_equal(picture(), first)
        self.assertGreater(swung.call_count, 10)

    def test_where_nothing_can_be_written_each_steps_alone(self) -> None:
        (self.folder / "recent").write_text("in the way")
        (self.folder / "checkpoints").write_text("in the way")
        alone = arrays(Solver(Shot.model_validate(school())), 20)
        for _ in range(2):
            np.testing.assert_array_equal(arrays(self.solver(school()), 20), alone)

    def test_a_damaged_file_is_as_if_it_were_not_there(self) -> None:
        alone = arrays(Solver(Shot.model_validate(STIRRED)), 75)
        arrays(self.solver(STIRRED), 75)
        found = [path for path in self.folder.rglob("*") if path.is_file()]
        self.assertTrue(found)
        for path in found:
            path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
        np.testing.assert_array_equal(arrays(self.solver(STIRRED), 75), alone)


class Bytes(unittest.TestCase):
    def test_states_come_back_as_they_were(self) -> None:
        for states in ([empty_state(ROWS)], [state(7), state(0), state(3, 17, 2)], [state(1000)]):
            back = unpacked(np.frombuffer(b"".join(a.tobytes() for a in packed(states)), np.uint8).copy())
            assert back is not None
            self.assertEqual(len(back), len(states))
            for mine, theirs in zip(states, back, strict=True):
                for name in ("births", "moments", "values"):
                    np.testing.assert_array_equal(getattr(theirs, name), getattr(mine, name))
                    self.assertTrue(getattr(theirs, name).flags.aligned and getattr(theirs, name).flags.writeable)

    def test_what_is_not_a_state_is_nothing(self) -> None:
        good = np.frombuffer(b"".join(a.tobytes() for a in packed([state(20)])), np.uint8)
        rng = np.random.default_rng(4)
        for there in (good[:-1], good[:5], np.concatenate([good, good]), np.zeros(400, np.uint8), good[:0]):
            self.assertIsNone(unpacked(there.copy()))
        for n in range(200):
            self.assertIsNone(unpacked(rng.integers(0, 256, n, np.uint8)))


class Bounds(unittest.TestCase):
    def test_the_least_used_go_when_all_take_too_much(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        shared_cache, thing = SharedCache(folder, 1 << 20), np.zeros(32 << 10, np.uint8)
        shared_cache.put("a", "first", [thing])
        for number in range(100):
            shared_cache.put("b", f"n{number}", [thing])
            self.assertIsNotNone(shared_cache.get("a", "first"))
            held = sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())
            self.assertLessEqual(held, (1 << 20) * 18 // 16)
        self.assertIsNone(shared_cache.get("b", "n3"))
        self.assertIsNotNone(shared_cache.get("b", "n99"))
        # One that takes a large part of all is not kept.
        shared_cache.put("a", "large", [np.zeros(1 << 19, np.uint8)])
        self.assertIsNone(shared_cache.get("a", "large"))
        # On a disk that fills up it gives way.
        full = os.statvfs_result((4096, 4096, 1000, 10, 10, 100, 100, 100, 0, 255))
        with unittest.mock.patch.object(os, "statvfs", return_value=full):
            shared_cache.put("b", "late", [thing])
            self.assertEqual((shared_cache.get("b", "late"), shared_cache.get("b", "n99")), (None, None))
        shared_cache.put("b", "n99", [thing])
        shared_cache.clear()
        self.assertEqual((shared_cache.names("b"), shared_cache.get("b", "n99")), ([], None))


if __name__ == "__main__":
    unittest.main()
