"""Bodies, finish, groups, lights and mattes, the plate, tracking, versions and the Lookout, on the screen."""

import unittest
from pathlib import Path

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from isbjorn.core.evaluate.geometry.glyphs import FONT
from tests.browser.chromium import Delivering
from tests.browser.looking import Looking


class Bodies(Looking):
    def test_a_body_is_chosen_by_its_picture_and_changes_the_picture(self) -> None:
        before = self.page.pixels()
        self.page.until(lambda: len(self.page.all('[aria-label="Body"] [role="radio"] img')) == 14)
        self.page.find('[aria-label="Body"] [aria-label="Star"]').click()
        self.page.until(lambda: self.embers()["body"]["kind"] == "star" and self.page.settled())
        self.assertNotEqual(self.page.pixels(), before)
        self.page.find('aside input[aria-label="Points"]')
        self.fill(self.page.find('aside input[aria-label="Points"]'), "8")
        self.page.until(lambda: self.embers()["body"]["points"] == 8)
        self.page.button("Add another body").click()
        self.page.until(lambda: len(self.embers()["mixed"]) == 1)
        self.page.until(
            lambda: [r.text for r in self.page.all('[aria-label="Choice of body"] [role="radio"]')] == ["50 %", "50 %"]
        )
        self.fill(self.page.find('aside input[aria-label="Weight"]'), "3")
        self.page.until(lambda: self.embers()["mixed"][0]["weight"] == 3)

    def test_words_in_a_font_that_is_imported(self) -> None:
        self.page.find('[aria-label="Body"] [aria-label="Text"]').click()
        self.page.until(lambda: self.embers()["body"]["kind"] == "words")
        self.page.until(lambda: any(x.text.startswith("Text") for x in self.page.all("aside label")))
        text = next(x for x in self.page.all("aside label") if x.text.startswith("Text")).find_element(
            By.TAG_NAME, "input"
        )
        self.fill(text, "RIME")
        self.page.until(lambda: self.embers()["body"]["text"] == "RIME")
        self.page.find('input[aria-label="Font file"]').send_keys(str(FONT))
        self.page.until(lambda: self.embers()["body"]["font"].endswith(FONT.name) and self.page.settled())

    def test_a_broken_font_is_said_and_nothing_is_lost(self) -> None:
        broken = Path(self.studio.folder) / "broken.ttf"
        broken.write_bytes(b"no font")
        self.page.find('[aria-label="Body"] [aria-label="Text"]').click()
        self.page.until(lambda: self.embers()["body"]["kind"] == "words")
        self.page.find('input[aria-label="Font file"]').send_keys(str(broken))
        self.page.until(lambda: "broken.ttf" in self.page.find('[role="status"]').text)
        self.assertEqual(self.embers()["body"]["font"], "")
        # The browser itself notes a refused request.
        self.assertTrue(all("422" in line for line in self.page.errors()))

    def test_the_life_of_a_body_lies_on_the_desk(self) -> None:
        source = self.page.find('[data-lane="body"] img').get_attribute("src")
        self.assertIn("/portrait", source)
        self.page.find('[aria-label="Body"] [aria-label="Ring"]').click()
        self.page.until(lambda: self.page.find('[data-lane="body"] img').get_attribute("src") != source)

    def test_a_picture_as_a_body(self) -> None:
        self.page.find('[aria-label="Body"] [aria-label="Sprite"]').click()
        self.page.until(lambda: self.embers()["body"]["kind"] == "picture")
        self.page.button("Choose …").click()
        self.page.until(lambda: self.page.all('[role="dialog"] img'))
        self.page.all('[role="dialog"] button img')[0].click()
        self.page.until(lambda: self.embers()["body"]["media"].endswith(".mp4") and self.page.settled())

    def test_trails_lines_and_what_becomes_of_a_trail_at_the_end(self) -> None:
        section = self.section("Trails, strands, water")
        section.find_element(By.CSS_SELECTOR, '[aria-label="Trail"]').click()
        self.page.until(lambda: self.embers()["trail"] is not None and self.page.settled())
        self.page.find('[aria-label="End"] [aria-label="Trail after death"]').click()
        next(i for i in self.page.all('[role="option"]') if i.text == "Ends with the particle").click()
        self.page.until(lambda: self.embers()["trail"]["after_death"] == "ends with it")
        section.find_element(By.CSS_SELECTOR, '[aria-label="Lines"]').click()
        self.page.until(lambda: self.embers()["lines"] is not None and self.page.settled())

    def test_skins_strands_and_ripples_from_their_switches(self) -> None:
        section = self.section("Trails, strands, water")
        section.find_element(By.CSS_SELECTOR, '[aria-label="Skin"]').click()
        self.page.until(lambda: len(self.page.all('[aria-label="Skins"] img')) >= 4)
        next(b for b in self.page.all('[aria-label="Skins"] button') if b.text == "Honey").click()
        self.page.until(lambda: (self.embers()["skin"] or {}).get("colours") == "by thickness" and self.page.settled())
        for label, field in (("Skin", "skin"), ("Strands", "strand"), ("Ripples", "ripples")):
            section.find_element(By.CSS_SELECTOR, f'[role="switch"][aria-label="{label}"]').click()
            self.page.until(lambda f=field: (self.embers()[f] is None) == (f == "skin") and self.page.settled())  # type: ignore[misc]


class Finish(Looking):
    light = False

    def test_steps_are_added_switched_ordered_and_taken_out(self) -> None:
        self.take("Ash")
        self.section("Effects")

        def kinds() -> list[str]:
            ash = next(e for e in self.document()["emitters"] if e["id"] == "ash")
            return [step["kind"] for step in ash["finish"] if step["on"]]

        for name, kind in (("Blur", "blur"), ("Grade and curve", "grade")):
            self.page.button("Add an effect").click()
            next(i for i in self.page.all('[role="menuitem"]') if i.text == name).click()
            self.page.until(lambda k=kind: kinds()[-1:] == [k])
        self.page.button("Grade and curve: earlier").click()
        self.page.until(lambda: kinds() == ["grade", "blur"])
        self.double_click(self.page.find('svg[aria-label="Curve"]'), 20, -20)
        self.page.until(lambda: self.page.all('[aria-label="Curve"] circle'))

        def curve() -> list:
            return next(e for e in self.document()["emitters"] if e["id"] == "ash")["finish"][0]["curve"]["points"]

        self.page.until(lambda: len(curve()) == 3)
        self.page.button("Blur is on").click()
        self.page.until(lambda: kinds() == ["grade"])
        self.page.button("Remove Grade and curve").click()
        self.page.until(lambda: kinds() == [])

    def test_a_keyed_number_of_a_groups_finish_has_its_graph(self) -> None:
        self.take("Fire")
        self.section("Effects")
        self.page.find('[aria-label^="What drives Amount"]').click()
        self.page.button("Key at 112").click()
        self.page.until(lambda: len(self.document()["groups"][0]["finish"][0]["amount"]["keys"]) == 1)
        self.page.find("body").send_keys(Keys.ESCAPE)
        self.page.until(lambda: self.page.all('[aria-label="Graph of Amount"], [aria-label*="amount"]'))

    def test_an_emitter_goes_into_a_new_group_and_is_used_as_glass(self) -> None:
        self.take("Ash")
        self.section("Effects")
        self.page.button("New group").click()
        self.page.until(lambda: len(self.document()["groups"]) == 2 and self.page.settled())
        group = self.document()["groups"][1]["id"]
        self.page.until(lambda: next(e for e in self.document()["emitters"] if e["id"] == "ash")["group"] == group)
        self.section("Compositing")
        self.choose("Role", "Glass")
        self.page.until(lambda: self.document()["groups"][1]["use"]["kind"] == "glass" and self.page.settled())

    def test_everything_is_finished_together_over_the_plate(self) -> None:
        next(b for b in self.page.all("header button") if "fps" in b.text).click()
        self.section("Effects on all particles")
        self.page.button("Add an effect").click()
        next(i for i in self.page.all('[role="menuitem"]') if i.text == "Grain").click()
        self.page.button("Match the plate").click()
        self.page.until(lambda: self.document()["finish"] and self.document()["finish"][0]["amount"]["value"] != 2)
        self.assertLess(self.document()["finish"][0]["amount"]["value"], 5)


class Sitting(Looking):
    def add(self, name: str) -> None:
        self.page.find('[aria-label="Add to the cast"]').click()
        next(i for i in self.page.all('[role="menuitem"]') if i.text == name).click()

    def test_a_matte_hides_and_its_grip_moves_it(self) -> None:
        before = self.page.pixels()
        self.add("Matte")
        self.page.until(lambda: self.document()["mattes"] and self.page.settled())
        self.page.find('aside [aria-label="Embers"][role="switch"]').click()
        self.page.until(lambda: self.embers()["hidden_by"] and self.page.settled())
        self.assertNotEqual(self.page.pixels(), before)
        handle = self.page.find('main [aria-label="Width, handle"]')
        wide = self.document()["mattes"][0]["width"]["value"]
        self.actions().click_and_hold(handle).move_by_offset(40, 0).release().perform()
        self.page.until(lambda: self.document()["mattes"][0]["width"]["value"] > wide + 20)
        self.choose("Kind", "Bright")
        self.page.until(lambda: self.document()["mattes"][0]["kind"] == "bright" and self.page.settled())

    def test_a_light_reveals(self) -> None:
        self.add("Light")
        self.page.until(lambda: self.document()["lights"] and self.page.settled())
        self.type_into("Embers", "100")
        self.page.until(lambda: self.embers()["lit"]["value"] == 100 and self.page.settled())
        before = self.page.pixels()
        self.type_into("Radius", "400")
        self.page.until(lambda: self.document()["lights"][0]["radius"]["value"] == 400 and self.page.settled())
        self.assertGreater(sum(self.page.pixels()), sum(before))

    def test_a_palette_is_drawn_on_the_plate(self) -> None:
        self.section("Colour")
        self.page.button("Palette from the plate").click()
        canvas = self.page.find("canvas")
        before = self.embers()["colour"]["colours"]
        self.actions().move_to_element_with_offset(canvas, -200, -100).click_and_hold().move_by_offset(
            150, 120
        ).release().perform()
        self.page.until(lambda: self.embers()["colour"]["colours"] != before)
        self.assertEqual(len(self.embers()["colour"]["colours"]), 5)

    def test_colour_by_distance_takes_a_thing(self) -> None:
        self.add("Marker")
        self.page.until(lambda: self.document()["markers"] and self.page.settled())
        self.take("Embers")
        self.section("Colour")
        self.choose("Colour by", "Distance")
        self.page.until(
            lambda: self.embers()["colour_of"] == self.document()["markers"][0]["id"] and self.page.settled()
        )
        self.assertIn("distance", self.page.find('[data-lane="colour"]').text)

    def test_views(self) -> None:
        seen = {str(self.page.pixels())}
        for view in ("Particles", "Alpha", "Overdraw", "Plate"):
            serial = self.page.find("canvas").get_attribute("data-serial")
            self.page.button(view).click()
            self.page.until(
                lambda s=serial: self.page.find("canvas").get_attribute("data-serial") != s and self.page.settled()
            )
            seen.add(str(self.page.pixels()))
        self.assertEqual(len(seen), 5)

    def test_a_marker_follows_the_plate(self) -> None:
        self.add("Marker")
        self.page.until(lambda: self.document()["markers"] and self.page.settled())
        # A lamp post of the pier, which does not move.
        self.ask("PATCH", f"/api/shots/{self.shot}", {"changes": [
            {"op": "replace", "path": "/markers/0/across/value", "value": 0.21 * 1280 - 640},
            {"op": "replace", "path": "/markers/0/up/value", "value": 360 - 0.737 * 720},
            {"op": "replace", "path": "/last_frame", "value": 124},
        ]})  # fmt: skip
        self.page.until(lambda: self.page.settled() and self.page.revision() >= 3)
        self.section("Follow the plate")
        self.page.button("Track forward ▸").click()
        self.page.until(lambda: "frames followed" in self.page.find("[data-track]").text)
        keys = self.document()["markers"][0]["across"]["keys"]
        self.assertGreaterEqual(len(keys), 2)
        self.assertLess(max(k["value"] for k in keys) - min(k["value"] for k in keys), 1.5)


class Compared(Looking):
    def test_a_version_is_wiped_over_the_shot_put_beside_it_and_taken_up(self) -> None:
        body = self.page.find("body")
        body.send_keys("v")
        box = self.page.find('input[aria-label="New version name"]')
        self.page.until(lambda: box.get_attribute("value") == "v1")
        self.page.button("Save a version").click()
        self.page.until(lambda: self.page.all('[data-version="v1"]'))
        self.assertIn("equals this version", self.page.find('[data-version="v1"]').text)
        self.page.find('[role="dialog"]').send_keys(Keys.ESCAPE)
        self.page.until(lambda: not self.page.all('[role="dialog"]'))
        self.type_into("Size", "12")
        self.page.until(lambda: self.embers()["size"]["value"] == 12 and self.page.settled())
        body.send_keys("v")
        self.page.until(lambda: "size 4.4 → 12 px" in self.page.find('[data-version="v1"]').text)
        self.page.button("Wipe").click()
        self.page.until(lambda: self.page.find('[data-compare="wipe"] img').get_attribute("src"))
        slider = self.page.find('[aria-label="Wipe position"]')
        at = int(slider.get_attribute("aria-valuenow") or 0)
        slider.send_keys(Keys.ARROW_RIGHT)
        self.page.until(lambda: int(slider.get_attribute("aria-valuenow") or 0) > at)
        source = self.page.find("[data-compare] img").get_attribute("src")
        self.page.find("body").send_keys(Keys.HOME)
        self.page.until(lambda: self.page.find("[data-compare] img").get_attribute("src") != source)
        self.page.button("Side by side").click()
        self.page.until(lambda: self.page.all('[data-compare="side"]'))
        self.page.button("End the comparison").click()
        self.page.until(lambda: not self.page.all("[data-compare]"))
        body.send_keys("v")
        self.page.button("Restore").click()
        self.page.until(lambda: self.embers()["size"]["value"] == 4.4 and self.page.settled())
        self.page.find('[aria-label="Undo"]').click()
        self.page.until(lambda: self.embers()["size"]["value"] == 12)

    def test_the_lookout_says_what_is_wrong_and_mends_it(self) -> None:
        self.type_into("Opacity", "0")
        self.page.until(lambda: "Embers: all are transparent" in self.page.find('[aria-label="Lookout"]').text)
        self.page.button("Make them opaque").click()
        self.page.until(lambda: self.embers()["opacity"]["value"] == 100 and self.page.settled())
        self.page.until(lambda: "transparent" not in "".join(n.text for n in self.page.all('[aria-label="Lookout"]')))
        self.page.find('[aria-label="Undo"]').click()
        self.page.until(lambda: self.embers()["opacity"]["value"] == 0)

    def test_an_order_without_alpha_is_mended_in_its_sheet(self) -> None:
        Delivering(self.page).choose("Over the plate")
        next(x for x in self.page.all('[role="dialog"] label') if "Over the" in x.text).click()
        self.page.until(lambda: "has no alpha" in self.page.find('[role="dialog"]').text)
        next(b for b in self.page.all('[role="dialog"] button') if b.text.startswith("Deliver as")).click()
        self.page.until(lambda: "has no alpha" not in self.page.find('[role="dialog"]').text)


if __name__ == "__main__":
    unittest.main()
