"""Where two kinds meet (see tests/cross.py): some hundred shots, always the same ones."""

import unittest
from typing import Any

from hypothesis import HealthCheck, given, settings

from tests.cross import documents, look


class Kinds(unittest.TestCase):
    @settings(
        max_examples=250, derandomize=True, deadline=None, database=None, suppress_health_check=list(HealthCheck)
    )  # fmt: skip
    @given(documents())
    def test_any_kinds_go_together(self, document: dict[str, Any]) -> None:
        look(document)


if __name__ == "__main__":
    unittest.main()
