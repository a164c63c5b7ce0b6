"""The stage: the picture alone in a window, playing without end."""

from __future__ import annotations

import unittest

from selenium.webdriver.common.keys import Keys

from tests.browser.looking import Looking


class Stage(Looking):
    def setUp(self) -> None:
        super().setUp()
        self.page.open(f"/stage/{self.shot}")
        self.page.until(lambda: self.shown() == str(self.shot), "the stage stayed dark")

    def tearDown(self) -> None:
        super().tearDown()
        # It would play on.
        self.page.open("/")

    def shown(self) -> str:
        seen = [c for c in self.page.all("canvas[data-scene]") if float(c.value_of_css_property("opacity")) == 1]
        return (seen[-1].get_attribute("data-scene") or "") if seen else ""

    def frame(self) -> int:
        return int(self.page.find(f'canvas[data-scene="{self.shot}"]').get_attribute("data-frame") or -1)

    def test_it_plays_freezes_and_goes_black(self) -> None:
        first = self.frame()
        self.page.until(lambda: self.frame() > first + 3, "it does not play")
        body = self.page.find("body")
        body.send_keys(" ")
        self.page.until(lambda: self.page.all('[data-frozen="true"]'))
        still = self.frame()
        self.assertFalse(self.page.driver.execute_async_script("setTimeout(arguments[0], 600)"))
        self.assertEqual(self.frame(), still)
        body.send_keys(" ")
        self.page.until(lambda: self.frame() != still)
        body.send_keys("b")
        self.page.until(lambda: self.page.find("[data-black]").value_of_css_property("opacity") == "1")
        body.send_keys("b")
        self.page.until(lambda: self.page.find("[data-black]").value_of_css_property("opacity") == "0")

    def test_it_takes_up_what_is_edited(self) -> None:
        before = self.ask("GET", f"/api/shots/{self.shot}")["revision"]
        changes = [{"op": "replace", "path": "/last_frame", "value": 20}]
        self.ask("PATCH", f"/api/shots/{self.shot}", {"changes": changes})
        self.assertGreater(self.ask("GET", f"/api/shots/{self.shot}")["revision"], before)
        # It comes round within the new range.
        self.page.until(lambda: self.frame() <= 20)
        self.page.until(lambda: self.frame() > 12)
        self.page.until(lambda: self.frame() < 8)

    def test_the_next_shot_fades_in(self) -> None:
        self.page.find("body").send_keys(Keys.ARROW_RIGHT)
        self.page.until(lambda: self.shown() not in ("", str(self.shot)), "no other shot came")
        self.page.until(lambda: len(self.page.all("canvas[data-scene]")) == 1)
        self.assertEqual(self.page.errors(), [])


if __name__ == "__main__":
    unittest.main()
