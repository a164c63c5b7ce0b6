"""Sounds on the screen: taken in, seen under the strip, leading a number and a burst, heard with the picture."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from selenium.webdriver.common.keys import Keys

from tests.browser.looking import Looking
from tests.core.evaluate.test_hearing import clicks, write


class Sounds(Looking):
    def setUp(self) -> None:
        super().setUp()
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        write(folder / "drum.wav", clicks([24_000 * n for n in range(1, 18)], 10))
        # The chooser of files cannot be pressed here; what it gives can.
        show = "document.querySelector('input[aria-label=\"Sound file\"]').classList.remove('hidden')"
        self.page.driver.execute_script(show)
        self.page.find('input[aria-label="Sound file"]').send_keys(str(folder / "drum.wav"))
        self.page.until(lambda: self.page.all('[data-wave="17"]'), "the waveform did not come")
        self.page.driver.execute_script(show.replace("remove", "add"))

    def option(self, text: str) -> None:
        next(i for i in self.page.all('[role="option"]') if i.text == text).click()

    def test_it_leads_a_number_and_a_burst(self) -> None:
        self.assertIn("17 onsets", self.page.find("[data-heard]").text)
        self.assertTrue(any("drives nothing yet" in p.text for p in self.page.all("aside p")))
        next(b for b in self.page.all("aside ul button") if b.text == "Embers").click()
        self.page.find('[aria-label^="What drives Birth rate"]').click()
        self.page.find('[data-popover-content] [aria-label="Source"]').click()
        self.option("Sound")
        self.page.until(
            lambda: (self.embers()["rate"]["source"] or {}).get("measure") == "sound" and self.page.settled()
        )
        self.page.find('[data-popover-content] [aria-label="Measure"]').click()
        self.option("Onsets")
        self.page.until(lambda: self.embers()["rate"]["source"]["hears"]["what"] == "onsets" and self.page.settled())
        self.page.find("body").send_keys(Keys.ESCAPE)
        self.page.button("Graph of Birth rate").click()
        self.page.until(lambda: self.page.all('[aria-label="Keys of Embers: birth rate"], main polyline'))
        # A burst at each of its onsets.
        next(b for b in self.page.all("button") if b.text.startswith("Burst at ")).click()
        self.page.until(lambda: self.embers()["bursts"] and self.page.settled())
        self.page.find('[aria-label="When"]').click()
        self.option("Onsets of drum")
        self.page.until(lambda: self.embers()["bursts"][0]["sound"] and self.page.settled())
        next(b for b in self.page.all("aside ul button") if b.text == "drum").click()
        led = [li.text for li in self.page.all("aside li") if "Embers" in li.text and "\n" in li.text]
        self.assertEqual(led, ["Embers: birth rate\nonsets", "Embers: burst\nonsets"])

    def test_it_is_heard_with_the_picture(self) -> None:
        self.page.button("Play").click()
        apart = lambda: self.page.find("[data-apart]").get_attribute("data-apart")  # noqa: E731
        self.page.until(lambda: apart() not in ("", None), "nothing was heard")
        # A busy machine may need some pictures until both go together.
        self.page.until(lambda: abs(float(apart() or "9")) < 0.08, "sound and picture do not come together")
        self.page.button("Mute").click()
        self.assertTrue(self.page.all('[aria-label="Unmute"]'))
        self.page.button("Pause").click()

    def test_a_press_on_the_waveform_goes_there(self) -> None:
        wave = self.page.find("[data-wave]")
        self.actions().move_to_element_with_offset(wave, 0, 0).click().perform()
        self.page.until(lambda: abs(int(self.page.find("canvas").get_attribute("data-frame")) - 125) < 3)


if __name__ == "__main__":
    unittest.main()
