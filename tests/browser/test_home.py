"""The home page: what was opened last comes first, shots are found by their names, and files are dropped anywhere."""

import json
import unittest

from tests.browser.looking import Looking

_DROP = """
const [text, name] = arguments;
const data = new DataTransfer();
data.items.add(new File([text], name));
const at = document.querySelector('main');
for (const kind of ['dragover', 'drop'])
  at.dispatchEvent(new DragEvent(kind, { dataTransfer: data, bubbles: true, cancelable: true }));
"""


class Home(Looking):
    def setUp(self) -> None:
        super().setUp()
        self.home()

    def home(self) -> None:
        self.page.open("/")
        self.page.until(lambda: len(self.page.all("article")) > 3, "no shot is shown")

    def names(self, section: str) -> list[str]:
        found = self.page.all(f'section[aria-label="{section}"] article a[aria-label^="Open "]')
        return [str(one.get_attribute("aria-label"))[5:] for one in found]

    def test_the_shot_that_was_opened_last_comes_first(self) -> None:
        self.assertEqual(self.names("Skarvøy Lights")[0], "Beacon copy")
        self.assertEqual(self.names("Recent")[0], "Beacon copy")
        self.page.open("/shots/2")
        self.page.until(self.page.settled)
        self.home()
        self.assertEqual(self.names("Recent")[:2], [self.names("Skarvøy Lights")[0], "Beacon copy"])
        self.assertNotEqual(self.names("Recent")[0], "Beacon copy")

    def test_shots_are_found_by_their_names(self) -> None:
        field = self.page.find('input[aria-label="Find a shot or project"]')
        field.send_keys("kel")
        self.page.until(lambda: self.names("Skarvøy Lights") == ["Kelp"])
        field.send_keys("p x")
        self.page.until(lambda: "No shot or project" in self.page.find("main").text)

    def test_projects_are_folded_and_stay_so(self) -> None:
        self.page.find('[aria-label="Shots of Skarvøy Lights"]').click()
        self.page.until(lambda: self.names("Skarvøy Lights") == [])
        self.page.open("/")
        self.page.until(lambda: self.page.all('[aria-label="Shots of Skarvøy Lights"][aria-expanded="false"]'))
        self.page.find('[aria-label="Shots of Skarvøy Lights"]').click()
        self.page.until(lambda: len(self.names("Skarvøy Lights")) > 3)

    def test_order_and_size_of_the_tiles(self) -> None:
        for label, choice in (("Sort by", "Name"), ("Size of the tiles", "Small")):
            self.page.find(f'[aria-label="{label}"]').click()
            self.page.until(lambda: self.page.all('[role="option"]'))
            next(o for o in self.page.all('[role="option"]') if o.text == choice).click()
        names = self.names("Skarvøy Lights")
        self.assertEqual(names, sorted(names, key=str.lower))
        self.page.until(lambda: self.page.find("section article").size["width"] < 260)
        self.page.driver.execute_script("localStorage.removeItem('isbjorn-home')")

    def test_a_shot_that_is_dropped_anywhere_is_taken_in(self) -> None:
        given = self.document() | {"name": "Quay at dawn"}
        self.page.driver.execute_script(
            _DROP, json.dumps({"format": "isbjorn-shot", "version": 1, **given}), "quay.json"
        )
        self.page.until(lambda: "Quay at dawn" in self.names("Skarvøy Lights"))

    def test_a_project_is_made_at_the_top(self) -> None:
        self.page.button("New project").click()
        box = self.page.find('input[aria-label="Name of a new project"]')
        box.send_keys("Harbour opening")
        self.page.button("Create project").click()
        self.page.until(lambda: self.page.all('section[aria-label="Harbour opening"]'))
        self.assertEqual(
            self.page.find("main section:not([aria-label='Recent'])").get_attribute("aria-label"), "Harbour opening"
        )
        self.page.find('[aria-label="Delete Harbour opening"]').click()
        self.page.until(lambda: not self.page.all('section[aria-label="Harbour opening"]'))


if __name__ == "__main__":
    unittest.main()
