"""Kinds from a package elsewhere are in the menus, in the forms and on the picture, without a line of the page changed."""

import unittest

from tests.browser.chromium import Running
from tests.browser.looking import Looking, page_of


class FromElsewhere(Looking):
    @classmethod
    def setUpClass(cls) -> None:
        cls.studio = Running(ISBJORN_EXTENSIONS="tests.tidal")
        cls.addClassCleanup(cls.studio.close)
        cls.page = page_of(cls.studio.address)
        cls.copied = cls._lighter()

    def test_a_force_is_added_seen_and_its_numbers_change_the_picture(self) -> None:
        self.page.button("Add to the cast").click()
        item = next(i for i in self.page.all('[role="menuitem"]') if i.text == "Tide")
        self.assertEqual(item.find_element("css selector", "path").get_attribute("d"), "M3 8c6-5 12 5 18 0")
        item.click()
        self.page.until(lambda: self.document()["forces"][-1]["kind"] == "tide")
        self.page.until(self.page.settled)
        before = self.page.pixels()
        self.type_into("Height of it", "1")
        self.page.until(self.page.settled)
        self.assertNotEqual(self.page.pixels(), before)
        self.assertEqual(self.document()["forces"][-1]["reach"]["value"], 1)
        self.assertTrue(self.page.all('aside [aria-label="Turned"]'))
        self.assertIn("Draws sideways, the more the higher.", self.page.find("aside:last-of-type").text)

    def test_a_body_and_an_effect_are_offered_with_their_fields(self) -> None:
        self.take("Embers")
        self.section("Body")
        self.page.find('[role="radio"][aria-label="Lozenge"]').click()
        self.page.until(lambda: self.embers()["body"]["kind"] == "lozenge")
        self.page.find('[aria-label="Leaning"]')
        effects = self.section("Effects")
        next(b for b in effects.find_elements("css selector", "button") if b.text == "Add an effect").click()
        next(i for i in self.page.all('[role="menuitem"]') if i.text == "Dimmer").click()
        self.page.until(lambda: self.embers()["finish"])
        self.page.find('[aria-label="Left over"]')
        self.assertFalse(self.page.all('aside [aria-label="Slope"]'), "it means nothing as long as it is not soft")
        self.page.find('aside [aria-label="Soft"]').click()
        self.page.until(lambda: self.page.all('aside [aria-label="Slope"]'))

    def test_a_shape_and_a_deformer_are_offered_with_their_fields(self) -> None:
        self.take("Embers")
        self.press('[aria-label="Birth"] [aria-label="Shape"]')
        next(i for i in self.page.all('[role="option"]') if i.text == "Glitter").click()
        self.page.until(lambda: self.embers()["shape"]["kind"] == "glitter")
        self.type_into("Breadth of it", "240")
        self.page.until(lambda: self.embers()["shape"]["width"]["value"] == 240)
        deformers = self.section("Deformers")
        next(b for b in deformers.find_elements("css selector", "button") if b.text == "Add a deformer").click()
        next(i for i in self.page.all('[role="menuitem"]') if i.text == "Heel over").click()
        self.page.until(lambda: self.embers()["deformers"])
        self.type_into("Lean by", "80")
        self.page.until(lambda: self.embers()["deformers"][0]["by"]["value"] == 80)


if __name__ == "__main__":
    unittest.main()
