"""Accessibility: WCAG 2.2 AA by axe-core over every page and sheet, and everything by keyboard."""

import unittest
from pathlib import Path

from selenium.webdriver.common.keys import Keys

from tests.browser.looking import Looking

AXE = Path(__file__).parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js"
_RUN = """
const done = arguments[arguments.length - 1];
const rules = { type: 'tag', values: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'] };
axe.run(document, { runOnly: rules, resultTypes: ['violations'] }).then((found) =>
  done(found.violations.map((v) => [v.id, v.help, ...v.nodes.slice(0, 4).map((n) =>
    `${n.html.slice(0, 140)} ${n.any[0]?.message ?? ''}`)].join(' | '))),
);
"""


class ForAll(Looking):
    def violations(self) -> list[str]:
        if not self.page.driver.execute_script("return typeof axe === 'object'"):
            self.page.driver.execute_script(AXE.read_text())
        self.page.driver.set_script_timeout(60)
        return self.page.driver.execute_async_script(_RUN)

    def press(self, *keys: str) -> None:
        self.actions().send_keys(*keys).perform()

    def focused(self) -> str:
        script = (
            "const e = document.activeElement; return e.getAttribute('aria-label') || e.textContent.trim().slice(0, 60)"
        )
        return str(self.page.driver.execute_script(script))

    def test_no_violation_on_any_page_in_either_theme(self) -> None:
        self.page.open("/")
        self.page.until(lambda: len(self.page.all("article")) > 3)
        self.assertEqual(self.violations(), [], "home")
        self.page.open(f"/shots/{self.shot}")
        self.page.until(self.page.settled)
        for theme in ("dark", "light"):
            self.assertEqual(self.violations(), [], f"shot, {theme}")
            self.page.button("Change the theme").click()

    def test_no_violation_in_any_sheet(self) -> None:
        for key, title in (
            ("?", "Help"),
            ("v", "Versions"),
            ("b", "Library of emitters"),
            ("p", "Add a plate"),
            ("d", "Deliver"),
            ("s", "Sweep"),
            ("x", "Variations"),
        ):
            self.page.driver.execute_script("document.activeElement.blur()")
            self.press(key)
            self.page.until(lambda: self.page.all('[role="dialog"]'), title)
            self.assertEqual(self.violations(), [], title)
            self.press(Keys.ESCAPE)
            self.page.until(lambda: not self.page.all('[role="dialog"]'))

    def test_no_violation_in_popovers(self) -> None:
        self.page.find('[aria-label^="What drives Birth rate"]').click()
        self.page.until(lambda: self.page.all("[data-popover-content]"))
        self.assertEqual(self.violations(), [], "drivers")
        self.press(Keys.ESCAPE)
        self.page.driver.execute_script("document.activeElement.blur()")
        self.press("i")
        self.page.until(lambda: self.page.all("[data-inspect]"))
        self.assertEqual(self.violations(), [], "inspect")

    def width_of(self, css: str) -> float:
        return float(self.page.find(css).rect["width"])

    def test_the_desk_gives_room_by_pointer_and_keyboard_and_remembers_it(self) -> None:
        splitter = self.page.find('[role="separator"][aria-label="Width of the cast"]')
        before = self.width_of("main")
        self.actions().drag_and_drop_by_offset(splitter, 60, 0).perform()
        self.page.until(lambda: abs(self.width_of("main") - before + 60) < 2)
        splitter.send_keys(Keys.ARROW_LEFT)
        self.page.until(lambda: abs(self.width_of("main") - before + 52) < 2)
        self.assertEqual(splitter.get_attribute("aria-valuenow"), "284")
        self.page.open(f"/shots/{self.shot}")
        self.page.until(self.page.settled)
        self.assertAlmostEqual(self.width_of("main"), before - 52, delta=2)
        self.double_click(self.page.find('[role="separator"][aria-label="Width of the cast"]'))
        self.page.until(lambda: abs(self.width_of("main") - before) < 2)

    def test_a_side_is_folded_away_and_stays_so(self) -> None:
        before = self.width_of("main")
        splitter = self.page.find('[role="separator"][aria-label="Width of the cast"]')
        splitter.send_keys(" ")
        self.page.until(lambda: abs(self.width_of("main") - before - 232) < 2)
        self.assertFalse(self.page.find('aside[aria-label="Cast and reach"]').is_displayed())
        self.page.open(f"/shots/{self.shot}")
        self.page.until(self.page.settled)
        self.assertAlmostEqual(self.width_of("main"), before + 232, delta=2)
        self.page.button("Unfold the cast").click()
        self.page.until(lambda: abs(self.width_of("main") - before) < 2)
        # Pushed far beyond its least measure, it folds too.
        low = self.page.find('[role="separator"][aria-label="Height of the desk"]')
        self.actions().drag_and_drop_by_offset(low, 0, 220).perform()
        self.page.button("Unfold the desk").click()
        self.page.until(lambda: self.page.find('[aria-label="Life"]').is_displayed())

    def test_the_picture_alone_fills_the_window_and_goes_back(self) -> None:
        self.page.driver.execute_script("document.activeElement.blur()")
        self.press("f")
        self.page.until(lambda: self.width_of("main") >= 1279)
        self.page.until(lambda: self.page.find("canvas").get_attribute("data-exact") == "true")
        self.assertFalse(self.page.find("aside").is_displayed())
        self.press(Keys.ESCAPE)
        self.page.until(lambda: self.page.find("aside").is_displayed() and self.width_of("main") < 1000)

    def test_pages_have_titles_and_skip_links(self) -> None:
        self.page.until(lambda: self.page.driver.title.endswith("– Isbjorn"))
        self.page.driver.execute_script("document.activeElement.blur()")
        self.press(Keys.TAB)
        self.assertEqual(self.focused(), "Skip to the picture")
        self.press(Keys.ENTER)
        self.page.until(lambda: self.focused().startswith("The picture"))

    def test_a_lane_point_is_added_moved_and_removed_by_keyboard(self) -> None:
        def points() -> list[dict]:
            return self.embers()["size"]["over_life"]["points"]

        before = len(points())
        self.page.find('[aria-label="Size: add a point"]').send_keys(Keys.ENTER)
        self.page.until(lambda: len(points()) == before + 1)
        point = self.page.find('[aria-label="Size, point 2"]')
        was = points()[1]["value"]
        self.page.driver.execute_script("arguments[0].focus()", point)
        self.press(Keys.ARROW_UP)
        self.page.until(lambda: points()[1]["value"] > was)
        self.page.driver.execute_script("arguments[0].focus()", self.page.find('[aria-label="Size, point 2"]'))
        self.press(Keys.DELETE)
        self.page.until(lambda: len(points()) == before)

    def test_the_views_are_one_tab_stop(self) -> None:
        self.assertEqual(len(self.page.all('[role="radiogroup"] [tabindex="0"]')), 1)
        self.page.driver.execute_script("arguments[0].focus()", self.page.find('[role="radio"][aria-checked="true"]'))
        self.press(Keys.ARROW_RIGHT)
        self.page.until(lambda: self.page.find('[role="radio"][aria-checked="true"]').text == "Particles")

    def test_letters_can_be_switched_off_and_do_not_act_on_a_focused_number(self) -> None:
        field = self.page.find('[aria-label="Birth rate"]')
        self.page.driver.execute_script("arguments[0].focus()", field)
        emitters = len(self.document()["emitters"])
        self.press("e")
        self.page.driver.execute_script("document.activeElement.blur()")
        self.press("?")
        self.page.button("Single-key shortcuts").click()
        self.press(Keys.ESCAPE)
        self.page.until(lambda: not self.page.all('[role="dialog"]'))
        self.page.driver.execute_script("document.activeElement.blur()")
        self.press("e")
        self.page.until(self.page.settled)
        self.assertEqual(len(self.document()["emitters"]), emitters)
        self.page.driver.execute_script("localStorage.clear()")

    def _cut_off(self, width: int) -> list[str]:
        """Buttons of the upper bar that are off the screen, or with a label broken over lines."""
        script = """return [...document.querySelectorAll('header button, header [data-saved]')].filter((one) => {
            const box = one.getBoundingClientRect();
            return box.left < 0 || box.right > arguments[0] || box.top < 0 || box.height > 40;
        }).map((one) => one.ariaLabel ?? one.textContent)"""
        found: list[str] = self.page.driver.execute_script(script, width)
        return found

    def _meet(self, one: str, other: str) -> bool:
        """Whether two elements overlap."""
        boxes = [
            self.page.driver.execute_script("return arguments[0].getBoundingClientRect().toJSON()", self.page.find(css))
            for css in (one, other)
        ]
        return all(
            boxes[0][low] < boxes[1][high] and boxes[1][low] < boxes[0][high]
            for low, high in (("left", "right"), ("top", "bottom"))
        )

    def test_enlarged_or_small_nothing_is_out_of_reach(self) -> None:
        try:
            for width, height in ((640, 400), (1024, 700)):
                metrics = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False}
                self.page.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)
                wide = self.page.driver.execute_script("return document.scrollingElement.scrollWidth")
                self.assertLessEqual(wide, width)
                self.assertEqual(self._cut_off(width), [])
                self.assertFalse(self._meet('[aria-label="View"]', "[data-facts]"))
                for css in (
                    "#picture",
                    '[aria-label="Birth rate"]',
                    '[aria-label="Frame"]',
                    "#life",
                    '[aria-label="End"]',
                ):
                    found = self.page.find(css)
                    self.page.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", found)
                    box = self.page.driver.execute_script(
                        "const b = arguments[0].getBoundingClientRect(); return [b.left, b.top, b.right, b.bottom]",
                        found,
                    )
                    self.assertTrue(box[2] > 0 and box[0] < width and box[3] > 0 and box[1] < height, (css, box))
        finally:
            metrics = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
            self.page.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)


if __name__ == "__main__":
    unittest.main()
