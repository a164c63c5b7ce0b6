"""Interacting particles, deformers, and bursts that fill: from the menu to the picture."""

import unittest

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.looking import Looking


class Meetings(Looking):
    def added(self, kind: str) -> dict:
        self.page.button("Add to the cast").click()
        next(i for i in self.page.all('[role="menuitem"]') if i.text == kind).click()
        self.page.until(lambda: any(f["name"] == kind for f in self.document()["forces"]), f"no {kind} came")
        return next(f for f in self.document()["forces"] if f["name"] == kind)

    def test_a_flock_is_added_reaches_and_moves_the_picture(self) -> None:
        before = self.page.pixels()
        flock = self.added("Flock")
        self.assertEqual(flock["kind"], "flock")
        self.assertIn({"force": flock["id"], "emitter": "embers"}, self.document()["links"])
        self.page.until(lambda: self.page.settled() and self.page.pixels() != before, "the picture stays as it was")
        self.type_into("Alignment", "12")
        self.page.until(lambda: self.document()["forces"][-1]["alignment"]["value"] == 12)
        # It acts from no place, so none is asked for.
        self.assertEqual(
            [x.text for x in self.page.all("aside:last-of-type section") if x.text.startswith("Place")], []
        )
        self.page.until(self.page.settled)

    def test_while_a_hand_moves_it_a_crowd_is_seen_where_it_was(self) -> None:
        self.added("Flock")
        self.page.until(self.page.settled)
        ActionChains(self.page.driver).click_and_hold(self.page.find('[aria-label="Alignment"]')).perform()

        def moved() -> bool:
            ActionChains(self.page.driver, duration=20).move_by_offset(2, 0).perform()
            return bool(self.page.all("[data-held]"))

        self.page.until(moved, "it is not said that the motion is that of before")
        ActionChains(self.page.driver).release().perform()
        self.page.until(lambda: self.page.settled() and not self.page.all("[data-held]"), "the crowd does not follow")

    def test_deformers_are_added_ordered_and_switched(self) -> None:
        self.take("Embers")
        before = self.page.pixels()
        part = self.section("Deformers")
        for kind in ("Bend along a path", "Twist"):
            add = part.find_element("xpath", ".//button[contains(., 'Add a deformer')]")
            self.page.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", add)
            add.click()
            next(i for i in self.page.all('[role="menuitem"]') if i.text == kind).click()
            self.page.until(lambda kind=kind: self.page.all(f'[aria-label^="{kind}, deformer"]'), kind)
        self.page.until(lambda: [d["kind"] for d in self.embers()["deformers"]] == ["bend", "twist"])
        self.page.until(lambda: self.page.settled() and self.page.pixels() != before, "nothing is bent")

        def stand(*kinds: str) -> None:
            self.page.until(lambda: [d["kind"] for d in self.embers()["deformers"]] == [*kinds], kinds)

        self.page.button("Twist: earlier").click()
        stand("twist", "bend")
        # By keys: the row that is moved stays the one that is chosen.
        self.page.until(lambda: self.page.all('[aria-label="Twist, deformer 1"]'))
        self.page.driver.execute_script("document.querySelector('[aria-label=\"Twist, deformer 1\"]').focus()")
        ActionChains(self.page.driver).key_down(Keys.ALT).send_keys(Keys.ARROW_DOWN).key_up(Keys.ALT).perform()
        stand("bend", "twist")
        self.page.until(
            lambda: self.page.driver.switch_to.active_element.get_attribute("aria-label") == "Twist, deformer 2"
        )
        # By dragging: a line shows where it would be dropped.
        twist, bend = (self.page.find(f'[aria-label^="{name}, deformer"]') for name in ("Twist", "Bend along a path"))
        hold = ActionChains(self.page.driver).move_to_element(twist).click_and_hold().move_to_element(bend)
        hold.move_by_offset(0, -10).perform()
        self.page.until(lambda: self.page.all("[data-line]"))
        ActionChains(self.page.driver).release().perform()
        stand("twist", "bend")
        self.page.until(lambda: not self.page.all("[data-line]"))
        self.type_into("Twist", "90")
        self.page.until(lambda: self.embers()["deformers"][0]["turns"]["value"] == 90)
        for name in ("Twist", "Bend along a path"):
            self.page.button(f"{name} is on").click()
            self.page.until(lambda name=name: self.page.all(f'[aria-label="{name} is off"]'))
        self.page.until(lambda: self.page.settled() and self.page.pixels() == before, "it is not as it was")

    def test_a_shot_that_is_not_there_is_said(self) -> None:
        self.page.open("/shots/999999")
        reported = self.page.find('[role="alert"]')
        self.page.until(
            lambda: "no such shot" in reported.text or "is not" in reported.text or "999999" in reported.text,
            reported.text,
        )
        reported.find_element("css selector", "a").click()
        self.page.until(lambda: self.page.all("article"))
        # The browser itself writes down that it was not there.
        self.assertTrue(all("404" in line for line in self.page.errors()))

    def test_a_burst_fills_the_shape(self) -> None:
        self.take("Embers")
        next(b for b in self.page.all("button") if b.text.startswith("Burst at")).click()
        self.page.until(lambda: len(self.embers()["bursts"]) == 1)
        box = self.page.find('input[aria-label="Fill shape"]')
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys("60", Keys.ENTER)
        self.page.until(lambda: self.embers()["bursts"][0]["fill"] == 60)
        self.page.until(self.page.settled)


if __name__ == "__main__":
    unittest.main()
