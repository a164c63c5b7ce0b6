"""A kept kernel is used as long as nothing that it hangs on has changed."""

import unittest

from isbjorn.core.kernels import HERE, reached


class Reached(unittest.TestCase):
    def test_functions_and_constants_of_other_files(self) -> None:
        found = reached(HERE / "picture" / "draw.py", "_draw")
        self.assertIn(("picture/tiles.py", "TILE_W"), found)
        self.assertIn(("picture/lanes.py", "composite"), found)
        self.assertIn("GROUPS = TILE_W // LANES", found["picture/draw.py", "GROUPS"])

    def test_nothing_else_of_the_same_file(self) -> None:
        found = reached(HERE / "picture" / "draw.py", "_draw")
        self.assertNotIn(("picture/draw.py", "draw_records"), found)
        self.assertNotIn(("picture/draw.py", "write_record"), found)

    def test_what_decorates_it_and_what_that_names(self) -> None:
        self.assertIn(("picture/draw.py", "_FAST"), reached(HERE / "picture" / "draw.py", "_draw_planes"))

    def test_a_module_that_is_used_by_its_name_and_all_that_it_hangs_on(self) -> None:
        found = set(reached(HERE / "motion" / "world.py", "_roam"))
        self.assertIn(("motion/contact.py", "sweep"), found)
        self.assertIn(("motion/forces/surface.py", "distance"), found)
        self.assertIn(("life/draws.py", "draw01"), found)
        self.assertNotIn(("motion/forces/attractor.py", "pack"), found)


if __name__ == "__main__":
    unittest.main()
