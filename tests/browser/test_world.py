"""Drivers, keys, the world and the library on the screen."""

import unittest

from selenium.webdriver.common.keys import Keys

from tests.browser.looking import Looking


class Drivers(Looking):
    def test_keys_are_set_at_the_playhead_and_moved_on_the_graph(self) -> None:
        self.page.find('[aria-label^="What drives Birth rate"]').click()
        self.page.button("Key at 112").click()
        self.page.until(lambda: len(self.embers()["rate"]["keys"]) == 1 and self.page.settled())
        self.page.find("body").send_keys(Keys.ESCAPE)
        self.page.until(lambda: self.page.all('[aria-label="Keys of Embers: birth rate"]'))
        body = self.page.find("body")
        body.send_keys(Keys.HOME)
        self.page.until(lambda: self.page.find("canvas").get_attribute("data-frame") == "0")
        self.type_into("Birth rate", "100")
        self.page.until(
            lambda: [k["value"] for k in self.embers()["rate"]["keys"]] == [100, 260] and self.page.settled()
        )
        key = self.page.all('[aria-label^="Embers: birth rate, key"]')[1]
        revision = self.page.revision()
        self.actions().click_and_hold(key).move_by_offset(-40, 0).move_by_offset(-40, 0).release().perform()
        self.page.until(lambda: self.embers()["rate"]["keys"][1]["at_s"] < 3.9 and self.page.settled())
        self.assertEqual(self.page.revision(), revision + 1)
        self.page.button("hold").click()
        self.page.until(lambda: self.embers()["rate"]["keys"][1]["joint"] == "hold")
        self.page.button("Copy all" if self.page.all('[aria-label="Copy all"]') else "Copy 1").click()
        body.send_keys(Keys.END)
        self.page.button("Paste").click()
        self.page.until(lambda: len(self.embers()["rate"]["keys"]) == 3)

    def test_a_place_is_keyed_as_one_and_moved_at_another_frame(self) -> None:
        self.page.button("Key position at 112").click()
        self.page.until(lambda: [len(self.embers()[f]["keys"]) for f in ("across", "up", "depth")] == [1, 1, 1])
        self.page.find("body").send_keys(Keys.HOME)
        self.page.until(lambda: self.page.find("canvas").get_attribute("data-frame") == "0" and self.page.settled())
        handle = self.page.find('main [aria-label="Place, handle"]')
        self.actions().click_and_hold(handle).move_by_offset(-60, -40).release().perform()
        self.page.until(lambda: [len(self.embers()[f]["keys"]) for f in ("across", "up")] == [2, 2])
        first, last = self.embers()["across"]["keys"]
        self.assertLess(first["value"], last["value"] - 50)
        self.page.until(lambda: self.page.all('[aria-label="Graph of Position Y"]'))

    def test_flutter_and_source_light_their_lamp(self) -> None:
        self.page.find('[aria-label^="What drives Size"]').click()
        self.page.find('[data-popover-content] [aria-label="Flutter"]').click()
        next(i for i in self.page.all('[role="option"]') if i.text == "Swings").click()
        self.page.until(lambda: self.embers()["size"]["flutter"])
        self.page.find('[data-popover-content] [aria-label="Source"]').click()
        next(i for i in self.page.all('[role="option"]') if i.text == "Speed").click()
        self.page.until(lambda: self.embers()["size"]["source"]["measure"] == "speed")
        self.page.find('[data-popover-content] [aria-label="Read"]').click()
        next(i for i in self.page.all('[role="option"]') if i.text == "Through life").click()
        self.page.until(lambda: self.embers()["size"]["reads"] == "life" and self.page.settled())
        self.page.find("body").send_keys(Keys.ESCAPE)
        self.assertTrue(
            self.page.find('[aria-label^="What drives Size"]').get_attribute("aria-label").endswith("flutter or source")
        )

    def test_between_two_curves(self) -> None:
        self.page.find('[aria-label^="What drives Size"]').click()
        self.page.button("Between two").click()
        self.page.until(lambda: self.embers()["size"]["over_life_to"])
        self.page.find("body").send_keys(Keys.ESCAPE)
        self.page.button("1 of 2").click()
        self.page.all('[data-lane="size"] [role="slider"]')[0].send_keys(Keys.ARROW_UP)
        self.page.until(lambda: self.embers()["size"]["over_life_to"]["points"][0]["value"] > 0.5)


class World(Looking):
    def add(self, name: str) -> None:
        self.page.find('[aria-label="Add to the cast"]').click()
        next(i for i in self.page.all('[role="menuitem"]') if i.text == name).click()

    def test_a_zone_is_made_chosen_for_a_force_and_drawn_larger(self) -> None:
        self.add("Zone")
        self.page.until(lambda: len(self.document()["zones"]) == 1 and self.page.settled())
        handle = self.page.find('main [aria-label="Radius, handle"]')
        self.actions().click_and_hold(handle).move_by_offset(30, 0).release().perform()
        self.page.until(lambda: self.document()["zones"][0]["radius"]["value"] > 180 and self.page.settled())
        next(b for b in self.page.all("aside button") if b.text == "Rising heat").click()
        self.page.find('[aria-label="Zone"]').click()
        next(i for i in self.page.all('[role="option"]') if i.text == "Zone").click()
        self.page.until(lambda: self.document()["forces"][0]["zone"] == self.document()["zones"][0]["id"])

    def test_turbulence_changes_the_picture_and_has_a_lane(self) -> None:
        before = self.page.pixels()
        self.add("Turbulence")
        self.page.until(lambda: len(self.document()["forces"]) == 5 and self.page.settled())
        self.page.until(lambda: self.page.pixels() != before)
        self.page.until(lambda: self.page.all('[data-lane="Turbulence"]'))
        self.page.until(lambda: len(self.page.all("main svg line")) > 60, "its field is drawn")
        self.page.button("Undo").click()
        self.page.until(lambda: self.page.pixels() == before)

    def test_a_path_is_given_and_bent_on_the_picture(self) -> None:
        self.page.button("Add motion path").click()
        self.page.until(lambda: self.embers()["path"] and self.page.settled())
        point = self.page.find('main [aria-label="Path point 2, handle"]')
        self.actions().click_and_hold(point).move_by_offset(0, -30).release().perform()
        self.page.until(lambda: self.embers()["path"]["points"][1]["y"] > 30 and self.page.settled())
        self.page.button("Remove path").click()
        self.page.until(lambda: self.embers()["path"] is None)

    def test_a_way_is_led_by_hand_while_it_plays(self) -> None:
        self.page.button("Record motion").click()
        canvas = self.page.find("canvas")
        self.page.find("body").send_keys(Keys.HOME)
        self.page.until(lambda: self.page.find("canvas").get_attribute("data-frame") == "0")
        hold = self.actions().move_to_element_with_offset(canvas, -150, 0).click_and_hold()
        for _ in range(12):
            hold = hold.move_by_offset(20, -3).pause(0.12)
        hold.release().perform()
        self.page.until(lambda: len(self.embers()["across"]["keys"]) >= 2)
        keys = self.embers()["across"]["keys"]
        self.assertGreater(keys[-1]["value"], keys[0]["value"] + 100)

    def test_a_free_look_leaves_the_camera_alone(self) -> None:
        before, document = self.page.pixels(), self.document()
        self.page.button("Orbit").click()
        self.page.until(lambda: self.page.pixels() != before and self.page.settled())
        canvas = self.page.find("canvas")
        turned = self.page.pixels()
        self.actions().move_to_element(canvas).click_and_hold().move_by_offset(60, 20).release().perform()
        self.page.until(lambda: self.page.pixels() != turned and self.page.settled())
        self.page.button("Orbit").click()
        self.page.until(lambda: self.page.pixels() == before)
        self.assertEqual(self.document(), document)


class Library(Looking):
    def test_an_emitter_is_kept_and_planted(self) -> None:
        self.page.find("body").send_keys("b")
        self.page.button("Save Embers").click()
        self.fill(self.page.find('[aria-label="Tags, with commas"]'), "fire, mine")
        self.fill(self.page.find('[aria-label="Find an emitter"]'), "mine")
        self.page.until(lambda: len(self.page.all("[data-preset]")) == 1)
        self.page.button("Add Embers to the shot").click()
        self.page.until(lambda: len(self.document()["emitters"]) == 4 and self.page.settled())
        self.assertEqual(self.document()["emitters"][3]["name"], "Embers 2")


if __name__ == "__main__":
    unittest.main()
