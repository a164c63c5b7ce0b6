"""Models that hide what is behind them: per pixel, in depth, from an empty shot."""

import unittest
from typing import Any
from unittest import mock

import numpy as np

from isbjorn.core import render_frame
from isbjorn.core.arrays import Floats
from isbjorn.core.document import Shot
from isbjorn.core.render.composite.compositor import Compositor
from isbjorn.core.render.draw.context import RenderContext

BOX = {"form": "box"}


def shot(depth: float, x: float = 0, mattes: list[dict[str, Any]] | None = None, **more: Any) -> Shot:
    """A disc of 40 px at a depth, hidden by a box of 100 px in the middle."""
    e = {
        "id": "e", "rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "speed": 0, "size": 40, "shape": {"kind": "point"},
        "across": x, "depth": depth, "body": {"kind": "hard disc"}, "hidden_by": ["m"],
    }  # fmt: skip
    box = {"id": "m", "kind": "model", "model": BOX, "size": 100, "feather": 0}
    return Shot.model_validate(
        {
            "emitters": [e | more],
            "mattes": mattes or [box],
            "width": 300,
            "height": 200,
            "camera": {"kind": "perspective"},
        }
    )


def cover(given: Shot) -> Floats:
    return render_frame(given, 0)[..., 3]


class HoldOuts(unittest.TestCase):
    def test_it_hides_what_is_behind_and_nothing_in_front(self) -> None:
        self.assertLess(float(cover(shot(-200)).max()), 1e-6)
        free = float(cover(shot(120, hidden_by=[])).sum())
        self.assertAlmostEqual(float(cover(shot(120)).sum()), free, delta=0.5)

    def test_leaving_out_what_is_wholly_hidden_changes_nothing(self) -> None:
        cloud = {"kind": "box", "width": 200, "height": 150, "deep": 500}
        soft = {"id": "m", "kind": "model", "model": BOX, "size": 100, "feather": 5}
        for body in ("hard disc", "soft disc", "star", "square"):
            many = shot(
                0,
                mattes=[soft],
                bursts=[{"count": 400}],
                size={"value": 9, "spread": 8},
                shape=cloud,
                body={"kind": body},
            )
            fast = render_frame(many, 0)
            with mock.patch.object(Compositor, "_reaches_far", return_value=True):
                np.testing.assert_allclose(fast, render_frame(many, 0), atol=1e-6, err_msg=body)

    def test_its_edge_cuts_a_body_behind_it(self) -> None:
        # The box's front is at 50 px toward the viewer, so that its edge is seen farther out than 50 px.
        eye = 300 / 36 * 35
        edge = 50 * eye / (eye - 50)
        there = cover(shot(-60, x=edge * (eye + 60) / eye))
        full = cover(shot(-60, x=edge * (eye + 60) / eye, hidden_by=[]))
        left, right = int(150 + edge) - 1, int(150 + edge) + 2
        self.assertLess(float(there[:, :left].max()), 1e-6)
        np.testing.assert_allclose(there[:, right:], full[:, right:], atol=1e-5)
        self.assertAlmostEqual(float(there.sum() / full.sum()), 0.5, delta=0.06)

    def test_particles_on_both_sides_are_hidden_one_by_one(self) -> None:
        cloud = {"kind": "box", "width": 60, "height": 60, "deep": 600}
        many = shot(0, bursts=[{"count": 300}], size=3, shape=cloud)
        seen, free = cover(many), cover(many.model_copy(update={"mattes": ()}))
        middle = (slice(80, 120), slice(130, 170))
        self.assertGreater(float(seen[middle].sum()), 0.1 * float(free[middle].sum()))
        self.assertLess(float(seen[middle].sum()), 0.8 * float(free[middle].sum()))

    def test_many_of_them_are_bounded(self) -> None:
        mattes = [{"id": f"m{n}", "kind": "model", "model": BOX, "size": 100, "across": 9 * n} for n in range(12)]
        given = shot(-200, mattes=mattes, hidden_by=[m["id"] for m in mattes])
        with mock.patch.object(RenderContext, "draw", autospec=True, side_effect=RenderContext.draw) as drawn:
            self.assertLess(float(cover(given).max()), 0.01)
        self.assertLessEqual(drawn.call_count, 16)

    def test_its_place_its_turn_and_its_size_are_keyed(self) -> None:
        moved = [
            {
                "id": "m", "kind": "model", "model": BOX, "size": 100, "feather": 0,
                "across": {"value": 0, "keys": [{"at_s": 0, "value": 0}, {"at_s": 1, "value": 200}]},
            }
        ]  # fmt: skip
        given = shot(-200, mattes=moved)
        self.assertLess(float(render_frame(given, 0)[..., 3].max()), 1e-6)
        self.assertGreater(float(render_frame(given, 25)[..., 3].max()), 0.99)


if __name__ == "__main__":
    unittest.main()
