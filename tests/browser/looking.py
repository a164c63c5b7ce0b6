"""What the browser tests share: a studio with a fresh copy of *Beacon*, opened."""

from __future__ import annotations

import json
import unittest
import urllib.request

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from tests.browser.chromium import Page, Running


class Looking(unittest.TestCase):
    studio: Running
    page: Page

    @classmethod
    def setUpClass(cls) -> None:
        cls.studio = Running()
        cls.addClassCleanup(lambda: cls.studio.close())
        cls.page = Page(cls.studio.address)
        cls.addClassCleanup(cls.page.close)

    def setUp(self) -> None:
        self.shot = self.ask("POST", "/api/shots/1/copy")["id"]
        self.page.open(f"/shots/{self.shot}")
        self.page.until(self.page.settled, "the first picture did not come")

    def tearDown(self) -> None:
        self.assertEqual(self.page.errors(), [])

    def ask(self, method: str, path: str, body: object = None) -> dict:
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(
            self.studio.address + path, data, {"content-type": "application/json"}, method=method
        )
        with urllib.request.urlopen(request) as answer:
            return json.load(answer)

    def document(self) -> dict:
        return self.ask("GET", f"/api/shots/{self.shot}")["document"]

    def embers(self) -> dict:
        return self.document()["emitters"][2]

    def type_into(self, label: str, text: str) -> None:
        field = self.page.find(f'[aria-label="{label}"]')
        ActionChains(self.page.driver).move_to_element(field).click().perform()
        box = self.page.find(f'input[aria-label="{label}"]')
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys(text, Keys.ENTER)

    def actions(self) -> ActionChains:
        return ActionChains(self.page.driver, duration=40)

    def double_click(self, element: WebElement, x: int = 0, y: int = 0) -> None:
        self.actions().move_to_element_with_offset(element, x, y).double_click().perform()

    def fill(self, box: WebElement, text: str) -> None:
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys(text, Keys.ENTER)
