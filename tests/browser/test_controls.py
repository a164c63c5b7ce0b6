"""Controls on the screen: learnt from a desk of faders over OSC, followed, recorded as keys."""

from __future__ import annotations

import subprocess
import sys
import unittest

from selenium.webdriver.common.keys import Keys

from tests.browser.chromium import Running
from tests.browser.looking import Looking, page_of
from tests.core.deliver.test_farm import free_port


class Controls(Looking):
    @classmethod
    def setUpClass(cls) -> None:
        # A separate studio, with a free port.
        cls.port = free_port()
        cls.studio = Running(ISBJORN_OSC=str(cls.port))
        cls.addClassCleanup(cls.studio.close)
        cls.page = page_of(cls.studio.address)
        cls.copied = cls._lighter()

    def faders(self, seconds: float = 60) -> None:
        command = [
            sys.executable,
            "-m",
            "isbjorn",
            "stand-in",
            "faders",
            "--port",
            str(self.port),
            "--seconds",
            str(seconds),
        ]
        desk = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        self.addCleanup(desk.wait)
        self.addCleanup(desk.terminate)

    def control(self) -> dict:
        return self.document()["controls"][0]

    def test_it_learns_follows_and_is_recorded(self) -> None:
        self.page.button("Add to the cast").click()
        next(i for i in self.page.all('[role="menuitem"]') if i.text == "Control").click()
        self.page.until(lambda: self.page.all("[data-arrivals]") and self.page.settled())
        self.assertIn(f"UDP port {self.port}", self.page.find("[data-arrivals]").text)
        learn = next(b for b in self.page.all("button") if b.text == "Learn")
        learn.click()
        self.faders()
        self.page.until(lambda: self.control()["comes_from"]["address"].startswith("/desk/"), "nothing was learnt")
        self.page.until(self.page.settled)
        # Drives the birth rate of the embers.
        next(b for b in self.page.all("aside ul button") if b.text == "Embers").click()
        self.page.find('[aria-label^="What drives Birth rate"]').click()
        self.page.find('[data-popover-content] [aria-label="Source"]').click()
        next(i for i in self.page.all('[role="option"]') if i.text == "Number").click()
        self.page.until(
            lambda: (self.embers()["rate"]["source"] or {}).get("measure") == "number" and self.page.settled()
        )
        self.page.find('[data-popover-content] [aria-label="Which"]').click()
        next(i for i in self.page.all('[role="option"]') if i.text == "Control: value").click()
        self.page.until(lambda: self.embers()["rate"]["source"]["thing"].endswith(".value") and self.page.settled())
        self.page.find("body").send_keys(Keys.ESCAPE)
        next(b for b in self.page.all("aside ul button") if b.text == "Control").click()
        # Followed, it goes with the fader.
        before = self.control()["value"]["value"]
        self.page.find('[role="switch"][aria-label="Follow"]').click()
        self.page.until(lambda: abs(self.control()["value"]["value"] - before) > 0.05, "it did not follow")
        self.page.find('[role="switch"][aria-label="Follow"]').click()
        self.page.until(self.page.settled)
        # Recorded, it has keys, which can be corrected. A take ends with the range: from the first frame there are ten seconds.
        self.page.find("body").send_keys(Keys.HOME)
        self.page.until(self.page.settled)
        # One button, found at once: to read the words of all takes as long as the range lasts, on a busy machine.
        recording = self.page.find('button[title^="Plays, and records"]')
        self.assertEqual(recording.text, "Record a take")
        recording.click()
        self.page.until(lambda: recording.text == "End the take", "no take began")
        frame = lambda: int(self.page.find('[aria-label="Frame"]').get_attribute("aria-valuenow") or 0)  # noqa: E731
        self.page.until(lambda: frame() > 50, "it did not play")
        recording.click()
        self.page.until(lambda: len(self.control()["value"]["keys"]) > 4, "no keys came")
        keys = self.control()["value"]["keys"]
        self.assertTrue(all(0 <= key["value"] <= 1 for key in keys))
        self.assertGreater(keys[-1]["at_s"] - keys[0]["at_s"], 1)
        self.assertIn("Drives", self.page.find("aside:last-of-type, aside").text + self.page.find("body").text)
        self.page.until(lambda: self.page.all('[aria-label="Graph of Value"]'))


if __name__ == "__main__":
    unittest.main()
