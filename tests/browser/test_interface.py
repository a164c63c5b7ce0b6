"""The real interface, as a person uses it."""

import unittest
from pathlib import Path

import av
import numpy as np
import OpenImageIO as oiio
from selenium.webdriver.common.keys import Keys

from tests.browser.chromium import Delivering
from tests.browser.looking import Looking
from tests.core.media.test_media import movie

_CONTRASTS = """
const style = getComputedStyle(document.documentElement);
const channel = (v) => (v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4);
const luminance = (name) => {
  const hex = style.getPropertyValue(name).trim();
  const [r, g, b] = [1, 3, 5].map((i) => channel(parseInt(hex.slice(i, i + 2), 16) / 255));
  return 0.2126 * r + 0.7152 * g + 0.0722 * b;
};
const ratio = (a, b) => {
  const [high, low] = [luminance(a), luminance(b)].sort((p, q) => q - p);
  return (high + 0.05) / (low + 0.05);
};
const names = ['--word', '--soft', '--dawn', '--ice', '--aurora', '--amber', '--red'];
return names.map((name) => [name, ratio(name, '--ground')]);
"""


class Interface(Looking):
    def test_a_changed_number_changes_the_picture_and_undo_brings_it_back(self) -> None:
        before = self.page.pixels()
        self.type_into("Birth rate", "25*80")
        self.page.until(lambda: self.embers()["rate"]["value"] == 2000)
        self.page.until(self.page.settled)
        brighter = self.page.pixels()
        self.assertGreater(brighter[0], before[0] * 1.02)
        self.page.button("Undo").click()
        self.page.until(
            lambda: self.page.settled() and self.page.pixels() == before, "undo did not bring the picture back"
        )
        self.page.button("Redo").click()
        self.page.until(lambda: self.page.settled() and self.page.pixels() == brighter)

    def test_dragging_a_number_shows_the_flights_and_is_one_step_of_undo(self) -> None:
        field = self.page.find('[aria-label="Speed"]')
        self.actions().move_to_element(field).click_and_hold().move_by_offset(10, 0).move_by_offset(12, 0).perform()
        self.page.until(lambda: len(self.page.all("main svg polyline")) > 30, "no flight fan while dragging")
        self.actions().release().perform()
        self.page.until(lambda: self.embers()["speed"]["value"] != 210 and self.page.settled())
        self.assertLess(len(self.page.all("main svg polyline")), 5)
        self.page.button("Undo").click()
        self.page.until(lambda: self.embers()["speed"]["value"] == 210)

    def test_a_wrong_number_is_said_at_its_field_and_nothing_changes(self) -> None:
        self.type_into("Lifespan", "-3")
        self.page.until(lambda: "out of range" in self.page.find('[aria-label="Birth"]').text)
        self.assertEqual(self.embers()["lifespan"]["value"], 3.4)
        # The refusal itself is the only thing that Chromium complains about.
        self.assertTrue(all("422" in line for line in self.page.errors()))

    def test_a_curve_is_drawn_moved_typed_and_removed(self) -> None:
        lane = self.page.find('[data-lane="opacity"] svg[aria-label$="over life"]')
        count = len(self.embers()["opacity"]["over_life"]["points"])
        self.actions().move_to_element(lane).double_click().perform()
        self.page.until(lambda: len(self.embers()["opacity"]["over_life"]["points"]) == count + 1)
        age = self.page.find('[aria-label="Opacity: age of the point in percent"]')
        age.send_keys(Keys.CONTROL, "a")
        age.send_keys("40", Keys.ENTER)
        value = self.page.find('[aria-label="Opacity: value of the point"]')
        value.send_keys(Keys.CONTROL, "a")
        value.send_keys("25", Keys.ENTER)
        self.page.until(
            lambda: [0.4, 0.25] in [[p["at"], p["value"]] for p in self.embers()["opacity"]["over_life"]["points"]]
        )
        self.page.button("straight joint").click()
        self.page.until(lambda: "straight" in [p["joint"] for p in self.embers()["opacity"]["over_life"]["points"]])
        self.page.button("Remove the point").click()
        self.page.until(lambda: len(self.embers()["opacity"]["over_life"]["points"]) == count)

    def test_a_preset_is_chosen_by_its_picture(self) -> None:
        self.page.button("Presets for size").click()
        self.page.button("Twinkle").click()
        self.page.until(lambda: len(self.embers()["size"]["over_life"]["points"]) == 7 and self.page.settled())

    def test_a_ramp_takes_a_colour_of_the_plate(self) -> None:
        stops = self.page.all('[data-lane="colour"] [aria-label^="Colour "][role="slider"]')
        stops[1].click()
        self.page.button("Pick a colour from the plate").click()
        self.actions().move_to_element_with_offset(self.page.find("canvas"), -300, -180).click().perform()
        self.page.until(lambda: self.embers()["colour"]["colours"][1]["colour"] != "#ffc163")
        picked = self.embers()["colour"]["colours"][1]["colour"]
        red, blue = int(picked[1:3], 16), int(picked[5:7], 16)
        self.assertGreater(blue, red, "the sky of the plate is blue")

    def test_scrubbing_and_playing(self) -> None:
        strip = self.page.find('[aria-label="Frame"]')
        before = self.page.pixels()
        self.actions().move_to_element_with_offset(strip, -200, 0).click().perform()
        self.page.until(self.page.settled)
        self.assertNotEqual(self.page.pixels(), before)
        self.page.button("Play").click()
        clock = self.page.find("[data-clock]").text
        self.page.until(lambda: self.page.find("[data-clock]").text != clock)
        self.page.until(lambda: float(self.page.find("[data-speed]").text.split()[0]) > 1)
        for _ in range(2):
            facts = self.page.find("[data-facts]").text
            self.page.until(
                lambda reported=facts: self.page.find("[data-facts]").text != reported, "its figures stand still"
            )
        self.page.button("Pause").click()
        self.page.until(self.page.settled)
        self.page.until(
            lambda: self.page.all('[aria-label="Shot strip"] rect[fill="var(--soft)"]'),
            "no computed frames on the strip",
        )

    def test_a_handle_on_the_picture_moves_the_source(self) -> None:
        handle = self.page.find('main [aria-label="Place, handle"]')
        self.actions().move_to_element(handle).click_and_hold().move_by_offset(60, 10).release().perform()
        self.page.until(lambda: self.embers()["across"]["value"] > 50 and self.page.settled())

    def test_the_reach_grid_links_and_unlinks(self) -> None:
        box = self.page.find('[aria-label="Air acts on Basket glow"]')
        self.assertEqual(box.get_attribute("aria-checked"), "false")
        box.click()
        self.page.until(lambda: {"force": "air", "emitter": "glow"} in self.document()["links"])

    def test_the_cast_is_added_to_from_the_keyboard(self) -> None:
        body = self.page.find("body")
        body.send_keys("e")
        self.page.until(lambda: len(self.document()["emitters"]) == 4)
        body.send_keys("o")
        self.page.until(lambda: self.document()["emitters"][3]["on"] is False)
        body.send_keys(Keys.DELETE)
        self.page.until(lambda: len(self.document()["emitters"]) == 3)
        body.send_keys(Keys.CONTROL, "z")
        self.page.until(lambda: len(self.document()["emitters"]) == 4)
        body.send_keys("?")
        self.page.until(lambda: "10 frames forward" in self.page.find('[role="dialog"]').text)
        self.page.find('[role="dialog"]').send_keys(Keys.ESCAPE)

    def test_the_handbook_is_searched_and_shows_a_recipe_with_its_picture(self) -> None:
        self.page.find("body").send_keys("?")
        search = self.page.find('[aria-label="Search the handbook"]')
        self.page.until(lambda: len(self.page.all('[aria-label="Pages of the handbook"] button')) > 30)
        search.send_keys("rings hang")
        found = self.page.until(lambda: [b for b in self.page.all('[aria-label="Pages of the handbook"] button')][:2])
        self.assertEqual([b.text for b in found], ["The fountain on the square"])  # type: ignore[attr-defined]
        found[0].click()  # type: ignore[index]
        shown = "return document.querySelector('[data-page] img')?.naturalWidth ?? 0"
        self.page.until(lambda: self.page.driver.execute_script(shown) == 480)
        self.assertIn("Common mistakes", self.page.find("[data-page]").text)
        search.send_keys(" nowhere")
        self.page.until(lambda: "No page contains these words." in self.page.find('[role="dialog"]').text)
        self.page.find('[role="dialog"]').send_keys(Keys.ESCAPE)

    def test_the_finder_finds_a_command(self) -> None:
        self.page.find("body").send_keys(Keys.CONTROL, "k")
        box = self.page.find('[role="dialog"] input')
        box.send_keys("alpha", Keys.ENTER)
        self.page.until(lambda: self.page.find('[role="radio"][aria-checked="true"]').text == "Alpha")

    def test_another_plate_is_put_under_it(self) -> None:
        grey = self.studio.folder / "grey.mp4"
        movie(grey, 20, size=(128, 72))
        before = self.page.pixels()
        self.page.find("body").send_keys("p")
        self.page.find('input[type="file"][aria-label="Import a plate"]').send_keys(str(grey))
        self.page.until(lambda: [b for b in self.page.all('[role="dialog"] button') if "grey.mp4" in b.text])
        next(b for b in self.page.all('[role="dialog"] button') if "grey.mp4" in b.text).click()
        self.page.until(lambda: self.document()["plate"]["name"] == "grey" and self.page.settled())
        self.assertNotEqual(self.page.pixels(), before)

    def test_a_delivery_is_ordered_watched_and_found(self) -> None:
        sheet = Delivering(self.page)
        sheet.open("Name and folder")
        folder = Path(sheet.box("Folder").get_attribute("value") or "")
        self.page.find('[role="dialog"] [aria-label="Format"]').click()
        next(i for i in self.page.all('[role="option"]') if i.text.startswith("PNG sequence, 8")).click()
        sheet.open("Frames")
        sheet.put("First frame", "10")
        sheet.put("Last frame", "14")
        sheet.order(5)
        self.page.until(
            lambda: self.page.find("[data-delivery]").get_attribute("data-state") == "done", "the delivery did not end"
        )
        made = sorted(p.name for p in folder.glob("*.png"))
        self.assertEqual(made, [f"Beacon copy_v001.{n:04d}.png" for n in range(10, 15)])
        with av.open(str(folder / made[0])) as picture:
            pixels = next(picture.decode(video=0)).to_ndarray(format="rgb24")
        self.assertEqual(pixels.shape, (720, 1280, 3))
        self.assertGreater(np.ptp(pixels), 200)

    def test_a_purpose_is_kept_and_orders_what_it_says(self) -> None:
        sheet = Delivering(self.page)
        sheet.open("Name and folder")
        folder = Path(sheet.box("Folder").get_attribute("value") or "")
        sheet.choose("Passes")
        next(b for b in self.page.all('[aria-label="Passes"] button') if b.text == "Ids").click()
        next(b for b in self.page.all('[aria-label="Purposes"] button') if b.text.startswith("Save as purpose")).click()
        box = self.page.find('[aria-label="Purpose name"]')
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys("For the wall", Keys.ENTER)
        self.page.until(lambda: "For the wall" in self.page.find('[aria-label="Purposes"]').text)
        self.page.driver.refresh()
        self.page.until(self.page.settled)
        sheet = Delivering(self.page)
        sheet.choose("For the wall")
        pressed = self.page.until(lambda: self.page.all('[aria-label="Passes"] [aria-pressed="true"]'))
        self.assertEqual([b.text for b in pressed], ["Emitters", "Groups", "Depth", "Motion", "Cryptomatte"])  # type: ignore[attr-defined]
        sheet.open("Frames")
        sheet.put("First frame", "100")
        sheet.put("Last frame", "101")
        sheet.open("Time")
        sheet.put("Speed", "50")
        self.page.until(lambda: self.page.all('figure[aria-label^="Shot frames"]'))
        sheet.order(4)
        self.page.until(
            lambda: (
                "EXR" in (job := self.page.find("[data-delivery]")).text and job.get_attribute("data-state") == "done"
            ),
            "the delivery did not end",
        )
        spec = oiio.ImageInput.open(str(folder / "Beacon copy_v001.0103.exr")).spec()
        self.assertEqual({"R", "Z", "motion.X", "Embers.A", "Objects00.R"} - set(spec.channelnames), set())
        self.assertNotIn("ids.birth", spec.channelnames)
        self.page.find('[aria-label="Forget For the wall"]').click()
        self.page.until(lambda: "For the wall" not in self.page.find('[aria-label="Purposes"]').text)

    def test_a_shot_is_made_from_nothing(self) -> None:
        self.page.open("/")
        self.page.until(lambda: "New shot" in self.page.find("header").text)
        self.page.button("New shot").click()
        self.page.find('[role="dialog"] input').send_keys("Rain on the quay")
        self.page.button("Create shot").click()
        self.page.until(lambda: self.page.settled() and sum(self.page.pixels()) > 0)
        self.assertEqual(self.page.find('[aria-label="Shot name"]').get_attribute("value"), "Rain on the quay")

    def test_nothing_is_lost_when_the_studio_is_killed(self) -> None:
        self.type_into("Birth rate", "77")
        self.page.until(lambda: self.embers()["rate"]["value"] == 77 and self.page.settled())
        self.studio.kill()
        self.page.until(lambda: "does not answer" in self.page.find("header").text)
        self.studio.start()
        self.page.until(lambda: "does not answer" not in self.page.find("header").text)
        self.assertEqual(self.embers()["rate"]["value"], 77)
        self.page.driver.get_log("browser")

    def test_both_themes_are_readable(self) -> None:
        for theme in ("snowfield", "polar-night"):
            self.page.button("Change the theme").click()
            self.page.until(lambda name=theme: self.page.find("html").get_attribute("data-theme") == name)
            for name, ratio in self.page.driver.execute_script(_CONTRASTS):
                self.assertGreaterEqual(ratio, 4.5, f"{name} in {theme}")


if __name__ == "__main__":
    unittest.main()
