"""Pieces in the page: a word is cut, its front is set on the picture and on the strip, and it is assembled again."""

import unittest
from typing import Any

from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from tests.browser.looking import Looking

SHOT: dict[str, Any] = {
    "format": "isbjorn-shot", "version": 1, "name": "Title", "width": 640, "height": 360, "last_frame": 99,
    "emitters": [{
        "id": "word", "name": "Word", "shape": {"kind": "letters", "text": "Rime", "height": 150}, "speed": 60, "lifespan": 1.2,
        "colour": {"colours": [{"at": 0, "colour": "#d0e0f0"}]},
    }],
}  # fmt: skip


class Pieces(Looking):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.copied = cls.ask("POST", "/api/projects/1/shots/import", SHOT)["id"]

    def setUp(self) -> None:
        super().setUp()
        self.take("Word")
        self.section("Pieces")

    def pieces(self) -> Any:
        return self.document()["emitters"][0]["pieces"]

    def whole(self, of: str) -> WebElement:
        return self.page.find(f'[aria-label="{of} of the pieces"]')

    def cut(self) -> None:
        self.press('aside [role="switch"][aria-label="In pieces"]')
        self.page.until(lambda: self.pieces() is not None and self.page.settled())

    def test_a_word_is_cut_and_its_pieces_leave(self) -> None:
        body = self.page.find("body")
        self.cut()
        self.press('[aria-label="Form of the pieces"] button:nth-child(3)')
        self.page.until(lambda: self.pieces()["cut"] == "shards" and self.page.settled())
        whole = self.page.pixels()
        self.type_into("Duration", "1")
        self.page.until(lambda: self.pieces()["release"]["duration"]["value"] == 1 and self.page.settled())
        body.send_keys(Keys.END)
        self.page.until(lambda: self.page.settled() and sum(self.page.pixels()) < 0.3 * sum(whole))
        body.send_keys(Keys.HOME)
        self.page.until(lambda: self.page.settled() and self.page.pixels() == whole)

    def test_the_front_is_turned_on_the_picture(self) -> None:
        self.cut()
        grip = self.page.find('[aria-label="Release: angle, handle"]')
        self.actions().click_and_hold(grip).move_by_offset(-120, -20).move_by_offset(-80, 0).release().perform()
        self.page.until(lambda: 90 < self.pieces()["release"]["angle"]["value"] < 270)

    def test_the_range_is_dragged_on_the_strip(self) -> None:
        self.cut()
        before = self.pieces()["release"]
        bar = self.whole("Release")
        self.actions().move_to_element(bar).click_and_hold().move_by_offset(60, 0).move_by_offset(
            20, 0
        ).release().perform()
        self.page.until(lambda: self.pieces()["release"]["at_s"] > before["at_s"] + 0.2 and self.page.settled())
        self.assertEqual(self.pieces()["release"]["duration"]["value"], before["duration"]["value"])
        begins = self.pieces()["release"]["at_s"]
        wide = self.whole("Release").size["width"]
        end = self.actions().move_to_element_with_offset(self.whole("Release"), wide // 2, 0)
        end.click_and_hold().move_by_offset(-40, 0).move_by_offset(-10, 0).release().perform()
        self.page.until(
            lambda: self.pieces()["release"]["duration"]["value"] < before["duration"]["value"] and self.page.settled()
        )
        self.assertEqual(self.pieces()["release"]["at_s"], begins)

    def test_it_is_assembled_from_a_shape(self) -> None:
        self.cut()
        self.press('aside [role="switch"][aria-label="Release"]')
        self.page.until(lambda: self.pieces()["release"] is None)
        self.press('aside [role="switch"][aria-label="Assemble"]')
        self.page.until(lambda: self.pieces()["assemble"] is not None and self.page.settled())
        self.choose("Starts from", "Line")
        self.page.until(lambda: self.pieces()["assemble"]["start"]["kind"] == "line")
        self.page.until(lambda: "places are filled" in self.page.find('aside section[aria-label="Pieces"]').text)


if __name__ == "__main__":
    unittest.main()
