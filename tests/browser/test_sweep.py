"""A sweep in the page: values side by side, one of them taken, kept, or narrowed about; by pointer and by keyboard."""

import unittest
from typing import Any

from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from tests.browser.looking import Looking


class Sweeps(Looking):
    def setUp(self) -> None:
        super().setUp()
        self.take("Embers")
        self.press('[aria-label^="What drives Birth rate"]')
        self.press('[aria-label="Sweep Birth rate"]')
        self.until_drawn()

    def until_drawn(self) -> None:
        self.page.until(
            lambda: self.cells() and "Drawing" not in self.page.find('[role="dialog"] [aria-live]').text,
            "the sheet was not drawn",
        )

    def cells(self) -> list[WebElement]:
        return self.page.all('[role="gridcell"] button')

    def labels(self) -> list[str]:
        return [str(cell.get_attribute("aria-label")) for cell in self.cells()]

    def rate(self) -> Any:
        return self.embers()["rate"]["value"]

    def sums(self) -> list[int]:
        """How bright each cell is."""
        script = """return [...document.querySelectorAll('[role="gridcell"] canvas')].map((c) =>
            c.getContext('2d').getImageData(0, 0, c.width, c.height).data.reduce((a, b) => a + b, 0))"""
        return list(self.page.driver.execute_script(script))

    def test_a_press_takes_a_value_in_one_step_of_undo(self) -> None:
        before = self.rate()
        self.assertEqual(len(self.cells()), 9)
        self.page.until(lambda: min(self.sums()) > 0, "a cell is black")
        bright = self.sums()
        self.assertLess(bright[0], bright[4])
        self.assertLess(bright[4], bright[8])
        self.cells()[8].click()
        self.page.until(lambda: self.rate() == 4 * before)
        self.page.until(lambda: "as the shot is" in self.labels()[8])
        self.page.find("body").send_keys(Keys.ESCAPE)
        self.page.until(lambda: not self.page.all('[role="dialog"]'))
        self.page.find("body").send_keys(Keys.CONTROL, "z")
        self.page.until(lambda: self.rate() == before)

    def test_pointing_shows_the_value_and_narrowing_halves_the_range(self) -> None:
        self.actions().move_to_element(self.cells()[5]).perform()
        shown = self.page.find("[data-values]").text
        self.assertIn(self.labels()[5].split()[-2], shown)
        middle = self.labels()[4]
        first = self.labels()[0]
        self.actions().move_to_element(self.cells()[4]).perform()
        self.page.button("Narrow").click()
        self.page.until(lambda: self.labels()[0] != first)
        self.assertEqual(self.labels()[4], middle)

    def test_it_goes_by_keyboard(self) -> None:
        before, kept = self.rate(), len(self.ask("GET", f"/api/shots/{self.shot}/versions"))
        self.cells()[4].send_keys(Keys.ARROW_RIGHT)
        active = self.page.driver.switch_to.active_element
        self.assertEqual(active.get_attribute("aria-label"), self.labels()[5])
        active.send_keys(Keys.SHIFT, Keys.ENTER)
        self.page.until(lambda: len(self.ask("GET", f"/api/shots/{self.shot}/versions")) == kept + 1)
        self.assertEqual(self.rate(), before)
        self.page.driver.switch_to.active_element.send_keys(Keys.ENTER)
        self.page.until(lambda: self.rate() > before)

    def test_a_second_number_makes_rows(self) -> None:
        self.page.find('[aria-label="Rows: number"]').click()
        self.page.until(lambda: self.page.all('[role="option"]'))
        next(o for o in self.page.all('[role="option"]') if o.text == "Embers – Speed").click()
        self.page.until(lambda: len(self.page.all('[role="rowheader"]')) == 3)
        self.until_drawn()
        self.assertEqual(len(self.page.all('[role="columnheader"]')), 3)
        speed = self.embers()["speed"]["value"]
        self.cells()[0].click()
        self.page.until(lambda: self.embers()["speed"]["value"] == 4 * speed and self.rate() < 400)

    def test_a_range_is_typed(self) -> None:
        self.page.find('[aria-label="Number: from"]').click()
        box = self.page.find('input[aria-label="Number: from"]')
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys("200*2", Keys.ENTER)
        self.page.until(lambda: "400" in self.labels()[0])


class Varied(Looking):
    def setUp(self) -> None:
        super().setUp()
        self.take("Embers")
        self.page.find("body").send_keys("x")
        self.until_drawn()

    def until_drawn(self) -> None:
        self.page.until(
            lambda: len(self.cells()) > 4 and "…" not in self.page.find('[role="dialog"] [aria-live]').text,
            "the variations were not drawn",
        )

    def cells(self) -> list[WebElement]:
        return self.page.all('[role="gridcell"] button')

    def labels(self) -> list[str]:
        return [str(cell.get_attribute("aria-label")) for cell in self.cells()]

    def test_a_look_is_followed_walked_back_and_used(self) -> None:
        before, first = self.embers(), self.labels()
        self.assertEqual(first[4], "As the shot is, as the shot is")
        self.cells()[2].click()
        self.page.until(lambda: self.labels()[4] == first[2])
        self.until_drawn()
        self.assertEqual(self.embers(), before)
        self.page.button("Back").click()
        self.page.until(lambda: self.labels() == first)
        self.page.button("Forward").click()
        self.page.until(lambda: self.labels()[4] == first[2])
        self.actions().move_to_element(self.cells()[4]).perform()
        self.page.button("Use").click()
        self.page.until(lambda: self.embers() != before and not self.page.all('[role="dialog"]'))
        self.page.find("body").send_keys(Keys.CONTROL, "z")
        self.page.until(lambda: self.embers() == before)

    def test_a_locked_number_stays_and_two_are_bred(self) -> None:
        boxes = self.page.all('[role="dialog"] fieldset label')
        next(box for box in boxes if box.text == "Birth rate").click()
        self.page.until(lambda: "Birth rate" not in " ".join(self.labels()))
        self.until_drawn()
        parents = [self.labels()[0], self.labels()[8]]
        for n in (0, 8):
            self.cells()[n].send_keys("b")
        self.page.until(lambda: sum("marked" in label for label in self.labels()) == 2)
        self.page.button("Breed").click()
        self.page.until(lambda: self.labels()[4] == parents[0])


if __name__ == "__main__":
    unittest.main()
