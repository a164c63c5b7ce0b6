"""The desk, the strip and the chosen thing: every control that a person touches."""

import re
import unittest

from selenium.webdriver.common.keys import Keys

from tests.browser.chromium import Delivering
from tests.browser.looking import Looking


class Numbers(Looking):
    def spin(self, label: str, *keys: str) -> None:
        field = self.page.find(f'[role="spinbutton"][aria-label="{label}"]')
        self.page.driver.execute_script("arguments[0].focus()", field)
        field.send_keys(*keys)

    def test_arrows_step_and_shift_steps_further(self) -> None:
        self.spin("Direction", Keys.ARROW_UP)
        self.page.until(lambda: self.embers()["direction"]["value"] == 91)
        self.spin("Direction", Keys.SHIFT, Keys.ARROW_DOWN)
        self.page.until(lambda: self.embers()["direction"]["value"] == 81)

    def test_backspace_brings_the_default_back(self) -> None:
        self.spin("Spread angle", Keys.BACKSPACE)
        self.page.until(lambda: self.embers()["spread"]["value"] == 60)

    def test_a_spread_is_typed_like_a_value(self) -> None:
        self.type_into("Lifespan, variation", "0.25")
        self.page.until(lambda: self.embers()["lifespan"]["spread"] == 0.25)
        self.page.until(lambda: "3.15 – 3.65 s" in self.page.find('[aria-label="End"]').text)

    def test_what_is_no_number_is_marked_and_left_alone(self) -> None:
        field = self.page.find('[aria-label="Birth rate"]')
        self.actions().move_to_element(field).click().perform()
        box = self.page.find('input[aria-label="Birth rate"]')
        self.fill(box, "many")
        self.assertEqual(box.get_attribute("aria-invalid"), "true")
        box.send_keys(Keys.ESCAPE)
        self.assertEqual(self.embers()["rate"]["value"], 260)

    def test_dragging_stops_at_the_end_of_the_range(self) -> None:
        field = self.page.find('[aria-label="Softness"]')
        self.actions().move_to_element(field).click_and_hold().move_by_offset(60, 0).release().perform()
        self.page.until(lambda: self.page.settled())
        self.assertEqual(self.embers()["body"]["softness"]["value"], 100)

    def test_another_shape_brings_its_own_measures(self) -> None:
        self.page.find('[aria-label="Birth"] [aria-label="Shape"]').click()
        next(i for i in self.page.all('[role="option"]') if i.text == "Rectangle").click()
        self.page.until(lambda: self.embers()["shape"]["kind"] == "rectangle")
        self.page.find('[aria-label="Birth"] [aria-label="Fill"]').click()
        next(i for i in self.page.all('[role="option"]') if i.text == "Edge").click()
        self.page.until(
            lambda: self.embers()["shape"]["kind"] == "rectangle" and self.embers()["shape"]["fill"] == "edge"
        )
        self.type_into("Width", "300")
        self.page.until(lambda: self.embers()["shape"]["width"]["value"] == 300)


class Lanes(Looking):
    def test_a_ramp_gains_and_loses_stops(self) -> None:
        bar = self.page.find('[data-lane="colour"] [title^="Double-click"]')
        self.double_click(bar, 60, 7)
        self.page.until(lambda: len(self.embers()["colour"]["colours"]) == 5)
        self.fill(self.page.find('[aria-label="Colour of the stop as text"]'), "#0f8")
        self.page.until(lambda: "#00ff88" in [s["colour"] for s in self.embers()["colour"]["colours"]])
        self.page.button("Remove the stop").click()
        self.page.until(lambda: len(self.embers()["colour"]["colours"]) == 4)
        self.double_click(bar, -40, -6)
        self.page.until(lambda: len(self.embers()["colour"]["opacities"]) == 1)
        self.fill(self.page.find('[aria-label="Opacity of the stop in percent"]'), "30")
        self.page.until(lambda: self.embers()["colour"]["opacities"][0]["opacity"] == 0.3)

    def test_a_stop_is_moved_by_the_pointer_and_by_keys(self) -> None:
        stop = self.page.find('[data-lane="colour"] [aria-valuetext^="#ff6a2b"]')
        self.actions().click_and_hold(stop).move_by_offset(40, 0).move_by_offset(30, 0).release().perform()
        self.page.until(lambda: self.embers()["colour"]["colours"][2]["at"] > 0.55 and self.page.settled())
        before = self.embers()["colour"]["colours"][2]["at"]
        self.page.find('[data-lane="colour"] [aria-valuetext^="#ff6a2b"]').send_keys(Keys.ARROW_RIGHT)
        self.page.until(lambda: abs(self.embers()["colour"]["colours"][2]["at"] - before - 0.01) < 1e-6)

    def test_colours_can_be_mixed_in_light(self) -> None:
        self.page.button("mixed in Oklab").click()
        self.page.until(lambda: self.embers()["colour"]["mix"] == "linear")

    def test_a_point_is_dragged_as_one_step_and_moved_by_keys(self) -> None:
        point = self.page.all('[data-lane="size"] [role="slider"]')[2]
        revision = self.page.revision()
        self.actions().click_and_hold(point).move_by_offset(0, -8).move_by_offset(30, -6).release().perform()
        self.page.until(lambda: self.embers()["size"]["over_life"]["points"][2]["at"] > 0.61 and self.page.settled())
        self.assertEqual(self.page.revision(), revision + 1)
        at = self.embers()["size"]["over_life"]["points"][2]["at"]
        self.page.all('[data-lane="size"] [role="slider"]')[2].send_keys(Keys.ARROW_LEFT)
        self.page.until(lambda: self.embers()["size"]["over_life"]["points"][2]["at"] < at)

    def test_a_level_lane_is_drawn_by_a_double_click(self) -> None:
        self.page.button("Presets for brightness").click()
        self.page.button("Level").click()
        self.page.until(lambda: self.embers()["brightness"]["over_life"] is None)
        self.double_click(self.page.find('[data-lane="brightness"] svg[aria-label$="over life"]'))
        self.page.until(lambda: len(self.embers()["brightness"]["over_life"]["points"]) == 3)
        lamp = self.page.find('[aria-label^="What drives Brightness"]')
        self.assertIn("over life", lamp.get_attribute("aria-label") or "")

    def test_the_age_cursor_shows_percent_and_seconds(self) -> None:
        lane = self.page.find('[data-lane="opacity"] svg[aria-label$="over life"]')
        self.actions().move_to_element(lane).perform()
        self.page.until(lambda: re.search(r"(49|50|51) %\s+1\.[67]\d s", self.page.find('[aria-label="Life"]').text))


class Looks(Looking):
    def test_views_by_key_and_zoom_by_wheel(self) -> None:
        over_plate = self.page.pixels()
        body = self.page.find("body")
        body.send_keys("3")
        self.page.until(lambda: self.page.pixels()[0] == self.page.pixels()[2] and self.page.pixels() != over_plate)
        body.send_keys("1")
        self.page.until(lambda: self.page.pixels() == over_plate)
        canvas = self.page.find("canvas")
        width = canvas.size["width"]
        wheel = "new WheelEvent('wheel', {deltaY: -600, clientX: 600, clientY: 250, bubbles: true})"
        self.page.driver.execute_script(f"arguments[0].parentElement.dispatchEvent({wheel})", canvas)
        self.page.until(lambda: self.page.find("canvas").size["width"] > width * 1.5)
        self.page.until(
            lambda: int(self.page.find("canvas").get_attribute("width") or 0) > width * 1.5,
            "no larger picture was asked for",
        )
        next(b for b in self.page.all("main button") if "fit" in b.text).click()
        self.page.until(lambda: self.page.find("canvas").size["width"] == width)

    def test_the_desk_keeps_the_emitter_while_a_force_is_shaped(self) -> None:
        next(b for b in self.page.all("aside button") if b.text == "Rising heat").click()
        self.page.until(lambda: "of Embers" in self.page.find('[aria-label="Birth"]').text)
        field = self.page.find('[aria-label="Strength"]')
        self.actions().move_to_element(field).click_and_hold().move_by_offset(8, 0).move_by_offset(6, 0).perform()
        self.page.until(lambda: len(self.page.all("main svg polyline")) > 30, "no flights while a force is shaped")
        self.actions().release().perform()
        self.page.until(lambda: self.document()["forces"][0]["strength"]["value"] > 1 and self.page.settled())

    def test_another_rate_keeps_the_moment(self) -> None:
        next(b for b in self.page.all("header button") if "fps" in b.text).click()
        self.page.find('[aria-label="Frame rate"]').click()
        next(i for i in self.page.all('[role="option"]') if i.text == "50 fps").click()
        self.page.until(lambda: self.document()["rate"] == "50" and "5 s" in self.page.find("header").text)

    def test_each_field_of_birth_stands_once(self) -> None:
        self.unfold_birth()
        fields = self.page.all('[aria-label="Birth"] input[aria-label], [aria-label="Birth"] button[aria-label]')
        labels = [str(field.get_attribute("aria-label")) for field in fields]
        self.assertGreater(len(labels), 15)
        self.assertEqual(sorted(set(labels)), sorted(labels))

    def test_a_starving_emitter_is_said_on_the_picture_and_at_its_end(self) -> None:
        self.unfold_birth()
        limits = self.page.all('[aria-label="Birth"] input[aria-label="Particle limit"]')
        self.fill(limits[0], "50")
        self.page.until(lambda: "but the limit is" in self.page.find('[aria-label="Lookout"]').text)
        self.page.until(lambda: "but the limit is" in self.page.find('[aria-label="End"]').text)

    def test_one_alone_and_all_again(self) -> None:
        body = self.page.find("body")
        body.send_keys("a")
        self.page.until(lambda: [e["on"] for e in self.document()["emitters"]] == [False, False, True])
        body.send_keys("a")
        self.page.until(lambda: [e["on"] for e in self.document()["emitters"]] == [True, True, True])

    def test_frames_by_key(self) -> None:
        body = self.page.find("body")
        for keys, frame in ((Keys.HOME, "0"), (Keys.ARROW_RIGHT, "1"), (Keys.END, "249"), (Keys.ARROW_LEFT, "248")):
            body.send_keys(keys)
            self.page.until(lambda f=frame: self.page.find("canvas").get_attribute("data-frame") == f)


class Elsewhere(Looking):
    def test_a_plate_that_is_gone_is_said_and_can_be_taken_away(self) -> None:
        change = {"op": "replace", "path": "/plate/media", "value": "gone.mp4"}
        self.ask("PATCH", f"/api/shots/{self.shot}", {"changes": [change]})
        self.page.until(lambda: "file is missing" in self.page.find('main [role="alert"]').text)
        # That there is something to undo comes on another way than the picture's problem.
        self.page.until(lambda: self.page.button("Undo").is_enabled())
        self.page.button("Undo").click()
        self.page.until(lambda: not self.page.all('main [role="alert"]') and self.page.settled())

    def test_a_delivery_to_nowhere_is_said_in_the_form(self) -> None:
        sheet = Delivering(self.page)
        sheet.open("Name and folder")
        sheet.put("Folder", "somewhere")
        self.page.until(lambda: "absolute" in self.page.find('[role="dialog"] [role="alert"]').text)
        self.assertTrue(all("422" in line for line in self.page.errors()))

    def test_a_deleted_shot_comes_back(self) -> None:
        self.page.open("/")
        count = len(self.page.until(lambda: self.page.all("article")))  # type: ignore[arg-type]
        self.page.all('article [aria-label^="Delete"]')[0].click()
        self.page.until(lambda: len(self.page.all("article")) == count - 1)
        next(b for b in self.page.all('[role="status"] button') if b.text == "Undo").click()
        self.page.until(lambda: len(self.page.all("article")) == count)

    def test_a_new_project_begins_empty(self) -> None:
        self.page.open("/")
        self.page.button("New project").click()
        self.fill(self.page.find('[aria-label="Name of a new project"]'), "Quay nights")
        self.page.until(lambda: self.page.all('[aria-label="Quay nights"]'))
        self.assertIn("0 shots", self.page.find('[aria-label="Quay nights"]').text)

    def test_the_first_words_go_with_the_first_edit(self) -> None:
        shot = self.ask("POST", "/api/projects/1/shots", {"name": "First"})["id"]
        self.page.open(f"/shots/{shot}")
        self.page.until(lambda: "Drag any number" in self.page.find("main").text)
        self.type_into("Birth rate", "90")
        self.page.until(lambda: "Drag any number" not in self.page.find("main").text)


if __name__ == "__main__":
    unittest.main()
