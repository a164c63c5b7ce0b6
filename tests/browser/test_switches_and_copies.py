"""Parts switched off to see what they do, copies, and the numbers of single particles."""

import unittest

from selenium.webdriver.common.keys import Keys

from tests.browser.looking import Looking


class Parts(Looking):
    def number(self, name: str) -> dict:
        return self.embers()[name]

    def test_a_driver_is_switched_off_and_on_and_kept(self) -> None:
        before = self.page.pixels()
        self.page.find('[aria-label^="What drives Lifespan"]').click()
        self.page.find('[aria-label="Variation of Lifespan"]').click()
        self.page.until(lambda: self.number("lifespan")["off"] == ["spread"])
        self.page.until(lambda: self.page.settled() and self.page.pixels() != before, "the picture stays as it was")
        self.assertGreater(self.number("lifespan")["spread"], 0)
        self.assertTrue(
            self.page.find('[aria-label="Lifespan, variation"]').get_attribute("class").count("line-through")
        )
        self.page.find('[aria-label="Variation of Lifespan"]').click()
        self.page.until(lambda: self.page.settled() and self.page.pixels() == before, "it does not come back")

    def test_one_press_switches_all_of_a_kind(self) -> None:
        self.actions().key_down(Keys.CONTROL).send_keys("k").key_up(Keys.CONTROL).perform()
        box = self.page.find('[role="dialog"] input')
        box.send_keys("every over-life", Keys.ENTER)
        self.page.until(lambda: self.number("size")["off"] == ["over life"])
        curves = [
            n for e in self.document()["emitters"] for n in e.values() if isinstance(n, dict) and n.get("over_life")
        ]
        self.assertGreater(len(curves), 2)
        self.assertTrue(all("over life" in n["off"] for n in curves))

    def test_a_spread_is_typed_in_per_cent(self) -> None:
        self.type_into("Speed, variation", "50%")
        self.page.until(lambda: self.number("speed")["spread"] == self.number("speed")["value"] / 2)

    def test_a_frame_and_a_time_are_typed(self) -> None:
        for text, frame in (("120", "120"), ("0:02:05", "55"), ("3s", "75")):
            self.page.find("[data-clock]").click()
            self.fill(self.page.find('[aria-label="Frame or time"]'), text)
            self.page.until(
                lambda frame=frame: self.page.find('[aria-label="Frame"]').get_attribute("aria-valuenow") == frame
            )

    def test_a_mirrored_copy_takes_its_forces_along(self) -> None:
        forces, emitters = len(self.document()["forces"]), len(self.document()["emitters"])
        row = next(b for b in self.page.all("aside ul button") if b.text == "Embers")
        self.actions().move_to_element(row).perform()
        self.page.find('[aria-label="More for Embers"]').click()
        next(i for i in self.page.all('[role="menuitem"]') if i.text == "Mirror left and right").click()
        self.page.until(lambda: len(self.document()["emitters"]) == emitters + 1)
        shot = self.document()
        self.assertGreater(len(shot["forces"]), forces)
        old, new = (next(e for e in shot["emitters"] if e["name"] == name) for name in ("Embers", "Embers 2"))
        self.assertAlmostEqual(new["across"]["value"], -old["across"]["value"])

    def test_a_particle_is_pressed_on(self) -> None:
        self.page.driver.execute_script("document.activeElement.blur()")
        self.actions().send_keys("i").perform()
        self.page.until(lambda: len(self.page.all('[aria-label="Particle values"] text')) > 10)
        seen = self.ask("GET", f"/api/shots/{self.shot}/particles?frame=112")
        picture, shot = self.page.find("canvas"), self.document()
        one = max(seen, key=lambda p: p["radius"])  # type: ignore[call-overload]
        k = picture.rect["width"] / shot["width"]
        x, y = (one["at"][0] - shot["width"] / 2) * k, (one["at"][1] - shot["height"] / 2) * k
        self.actions().move_to_element_with_offset(picture, int(x), int(y)).click().perform()
        self.page.until(
            lambda: "px/s" in self.page.find("[data-inspect]").text and "Birth" in self.page.find("[data-inspect]").text
        )
        self.assertGreaterEqual(len(self.page.all('[aria-label="Particle values"] polyline')), 1)

    def test_times_are_shown_in_frames(self) -> None:
        self.unfold_birth()
        self.page.find('[aria-label="Stop is shown in seconds"]').click()
        self.fill(self.page.find('[aria-label="Stop"]'), "100")
        self.page.until(lambda: self.embers()["end_s"] == 4)


if __name__ == "__main__":
    unittest.main()
