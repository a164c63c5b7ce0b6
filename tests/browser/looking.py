"""What the browser tests share: one studio for all of a process, in it for each test a fresh copy of *Beacon*, opened."""

from __future__ import annotations

import atexit
import functools
import json
import signal
import sys
import unittest
import urllib.request

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from tests.browser.chromium import Page, Running


def _ended(*_: object) -> None:
    sys.exit(143)


def _closed(one: Running | Page) -> None:
    """A process that receives a signal to end may receive more: it ends its studio and its browser first."""
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
    one.close()


def _ended_with_this(one: Running | Page) -> None:
    """End it when this process ends: a parallel test run ends its processes by a signal."""
    signal.signal(signal.SIGTERM, _ended)
    atexit.register(_closed, one)


@functools.cache
def _browser() -> Page:
    page = Page("about:blank")
    _ended_with_this(page)
    return page


def page_of(address: str) -> Page:
    """The one Chromium of a process, as if it had just been started, to look at a studio."""
    page = _browser()
    page.begin(address)
    return page


@functools.cache
def _shared() -> Running:
    running = Running()
    _ended_with_this(running)
    return running


class Looking(unittest.TestCase):
    studio: Running
    page: Page
    #: Beacon without what only takes time: its finish, its haze, its shutter.
    light = True

    @classmethod
    def setUpClass(cls) -> None:
        cls.studio = _shared()
        cls.page = page_of(cls.studio.address)
        cls.copied = cls._lighter() if cls.light else 1

    def setUp(self) -> None:
        self.shot = self.ask("POST", f"/api/shots/{self.copied}/copy")["id"]
        self.page.open(f"/shots/{self.shot}")
        self.page.until(self.page.settled, "the first picture did not come")

    @classmethod
    def _lighter(cls) -> int:
        given = cls.ask("GET", "/api/shots/1")["document"]
        given |= {"groups": [], "emitters": [{**e, "group": None} for e in given["emitters"] if e["id"] != "haze"]}
        given["links"] = [x for x in given["links"] if x["emitter"] != "haze"]
        given["camera"]["shutter"] = 0
        return cls.ask("POST", "/api/projects/1/shots/import", given)["id"]

    def tearDown(self) -> None:
        self.assertEqual(self.page.errors(), [])

    @classmethod
    def ask(cls, method: str, path: str, body: object = None) -> dict:
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(
            cls.studio.address + path, data, {"content-type": "application/json"}, method=method
        )
        with urllib.request.urlopen(request) as answer:
            return json.load(answer)

    def document(self) -> dict:
        return self.ask("GET", f"/api/shots/{self.shot}")["document"]

    def embers(self) -> dict:
        return next(e for e in self.document()["emitters"] if e["id"] == "embers")

    def type_into(self, label: str, text: str) -> None:
        field = self.bring(self.page.find(f'[aria-label="{label}"]'))
        ActionChains(self.page.driver).move_to_element(field).click().perform()
        box = self.page.find(f'input[aria-label="{label}"]')
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys(text, Keys.ENTER)

    def section(self, title: str) -> WebElement:
        """A section of the chosen thing's numbers, open."""
        found = self.page.find(f'aside section[aria-label="{title}"]')
        head = found.find_element("css selector", "button")
        if head.get_attribute("aria-expanded") == "false":
            self.bring(head).click()
        return found

    def bring(self, element: WebElement) -> WebElement:
        """Scroll a panel until the element is clear of its heading, which the driver takes for empty space."""
        self.page.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", element)
        return element

    def press(self, css: str) -> None:
        """Click what matches, clear of its heading; again if the page replaced it meanwhile."""

        def pressed() -> bool:
            self.bring(self.page.find(css)).click()
            return True

        self.page.until(pressed, f"{css} could not be clicked")

    def unfold_birth(self) -> None:
        """Show the fields of birth that are at their defaults."""
        self.page.find('[aria-label="Birth"] details summary').click()

    def choose(self, label: str, text: str) -> None:
        """Choose from a list of the chosen thing's numbers."""
        self.press(f'aside:last-of-type [aria-label="{label}"]')
        next(i for i in self.page.all('[role="option"]') if i.text == text).click()

    def take(self, name: str) -> None:
        """Choose a thing of the cast."""
        next(b for b in self.page.all("aside ul button") if b.text == name).click()

    def actions(self) -> ActionChains:
        return ActionChains(self.page.driver, duration=40)

    def double_click(self, element: WebElement, x: int = 0, y: int = 0) -> None:
        self.actions().move_to_element_with_offset(element, x, y).double_click().perform()

    def fill(self, box: WebElement, text: str) -> None:
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys(text, Keys.ENTER)
