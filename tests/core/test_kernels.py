"""A kept kernel is used as long as nothing that it hangs on has changed."""

import unittest

from isbjorn.core.runtime.kernels import HERE, reached


class Reached(unittest.TestCase):
    def test_functions_and_constants_of_other_files(self) -> None:
        found = reached(HERE / "render" / "discs.py", "_draw")
        self.assertIn(("render/tiles.py", "TILE_W"), found)
        self.assertIn(("render/lanes.py", "composite"), found)
        self.assertIn("GROUPS = TILE_W // LANES", found["render/discs.py", "GROUPS"])

    def test_nothing_else_of_the_same_file(self) -> None:
        found = reached(HERE / "render" / "discs.py", "_draw")
        self.assertNotIn(("render/discs.py", "draw_records"), found)
        self.assertNotIn(("render/discs.py", "write_record"), found)

    def test_what_decorates_it_and_what_that_names(self) -> None:
        self.assertIn(("render/discs.py", "_FAST"), reached(HERE / "render" / "discs.py", "_draw_planes"))

    def test_a_module_that_is_used_by_its_name_and_all_that_it_hangs_on(self) -> None:
        found = set(reached(HERE / "simulate" / "integrators" / "world.py", "_roam"))
        self.assertIn(("simulate/contact.py", "sweep"), found)
        self.assertIn(("simulate/forces/surface.py", "distance"), found)
        self.assertIn(("random.py", "draw01"), found)
        self.assertNotIn(("simulate/forces/attractor.py", "pack"), found)


if __name__ == "__main__":
    unittest.main()
