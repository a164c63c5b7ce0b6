"""Takes one current picture of each main view, from the demonstration: `make screenshots`."""

import json
import sys
import tempfile
import threading
import time
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from isbjorn import standins
from tests.browser.chromium import Delivering, Page, Running
from tests.core.deliver.test_farm import free_port


def ask(address: str, method: str, path: str, body: object) -> Any:
    head = {"content-type": "application/json"}
    request = urllib.request.Request(address + path, json.dumps(body).encode(), head, method=method)
    with urllib.request.urlopen(request) as answer:
        return json.load(answer)


def open_section(page: Page, title: str, shut: tuple[str, ...] = ()) -> None:
    for name in (*shut, title):
        head = page.find(f'aside section[aria-label="{name}"] > button')
        if (head.get_attribute("aria-expanded") == "true") == (name != title):
            head.click()


def warm(page: Page) -> None:
    """Draw another frame: the first one of a shot loads kernels, which its figures would show."""
    page.until(page.settled)
    page.driver.execute_script("document.activeElement.blur()")
    frame = page.find('[aria-label="Frame"]').get_attribute("aria-valuenow")
    page.find("body").send_keys(Keys.ARROW_RIGHT)
    page.until(lambda: page.find('[aria-label="Frame"]').get_attribute("aria-valuenow") != frame and page.settled())


def moving(page: Page, css: str, count: int) -> None:
    """Wait for all moving pictures: they are drawn one after the other."""
    for number in range(1, count + 1):
        page.until(lambda n=number: len(page.all(css)) >= n)
    time.sleep(1)


def compared(page: Page, address: str, take: Callable[[str], object]) -> None:
    ask(address, "POST", "/api/shots/1/versions", {"name": "v1 calm"})
    changes = [("rate/value", 520), ("size/value", 6), ("limit", 1500), ("lifespan/value", 4.2)]
    edit = {
        "changes": [{"op": "replace", "path": f"/emitters/3/{p}", "value": v} for p, v in changes],
        "label": "Wilder",
    }
    ask(address, "PATCH", "/api/shots/1", edit)
    ask(address, "POST", "/api/shots/1/versions", {"name": "v2 wilder"})
    page.open("/shots/1")
    page.until(page.settled)
    page.button("Versions").click()
    page.until(lambda: len(page.all("[data-version] img")) == 2)
    time.sleep(3)
    page.all('[data-version="v1 calm"] button')[-4].click()
    page.until(lambda: page.find("[data-compare] img").get_attribute("src"))
    page.until(lambda: page.all('[aria-label="Lookout"]'))
    time.sleep(2)
    take("compare")
    ask(address, "POST", "/api/shots/1/undo", {})


def swept(page: Page, take: Callable[[str], object]) -> None:
    page.open("/shots/1")
    page.until(page.settled)
    page.find("body").send_keys("s")
    page.until(lambda: page.all('[role="gridcell"]'))
    page.find('[aria-label="Rows: number"]').click()
    page.until(lambda: page.all('[role="option"]'))
    next(o for o in page.all('[role="option"]') if o.text == "Embers – Spread angle").click()
    page.until(lambda: page.all('[role="rowheader"]'))
    page.until(lambda: "Drawing" not in page.find('[role="dialog"] [aria-live]').text)
    take("sweep")
    page.find("body").send_keys(Keys.ESCAPE)


def staged(page: Page, take: Callable[[str], object], port: int) -> None:
    """The northern lights, performed by a fader and a walker; the take of it on the desk."""
    for send in (standins.faders, standins.walker):
        threading.Thread(target=send, args=("127.0.0.1", port, 60), daemon=True).start()
    page.open("/stage/14")
    page.until(lambda: page.all('main[data-performed="yes"]') and page.find("main").get_attribute("data-latency"))
    # Two rounds: the kernels are there, and what is drawn is what there is time for.
    time.sleep(14)
    page.find("body").send_keys("l")
    time.sleep(3)
    take("stage")
    page.find("body").send_keys("lk")
    time.sleep(2)
    page.open("/shots/14")
    page.until(page.settled)
    next(b for b in page.all("aside ul button") if b.text == "Take").click()
    page.until(lambda: page.all("[data-take]"))
    open_section(page, "Keys from the take")
    next(b for b in page.all("button") if b.text == "Convert to keys").click()
    time.sleep(2)
    next(b for b in page.all("aside ul button") if b.text == "Walker").click()
    page.until(lambda: page.all('[aria-label="Graph of Value"]'))
    page.find('[aria-label="Graph of Value"]').click()
    page.until(lambda: page.all("[data-performed]") and page.settled())
    time.sleep(1)
    take("take")


def in_the_wind(page: Page) -> None:
    """The title half away, when everything is at rest."""
    open_section(page, "Pieces", shut=("Body", "Look"))
    strip = page.find('[aria-label="Frame"]')
    strip.send_keys(Keys.HOME, *([Keys.PAGE_UP] * 18))
    page.until(page.settled)
    time.sleep(6)
    strip.send_keys(Keys.ARROW_RIGHT)
    page.driver.execute_script("document.activeElement.blur()")


def main(folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    port = free_port()
    # The plates as they are, not as short as tests have them.
    studio = Running(Path(tempfile.gettempdir()) / "isbjorn", 1000, ISBJORN_OSC=str(port), ISBJORN_FILL="1")
    page = Page(studio.address)

    def take(name: str) -> None:
        page.driver.save_screenshot(str(folder / f"{name}.png"))

    try:
        # While nothing is delivered beside it.
        staged(page, take, port)
        for _ in range(2):
            ask(studio.address, "POST", "/api/shots/14/undo", {})
        page.open("/shots/1")
        page.until(page.settled)
        warm(page)
        body = page.find("body")
        page.all('[data-lane="size"] [role="slider"]')[1].click()
        field = page.find('[aria-label="Direction"]')
        hold = ActionChains(page.driver, duration=80)
        hold.move_to_element(field).click_and_hold().move_by_offset(8, 0).move_by_offset(-4, 0).move_by_offset(
            -4, 0
        ).perform()
        page.until(lambda: len(page.all("main svg polyline")) > 30 and page.settled())
        take("flight-fan")
        ActionChains(page.driver).release().perform()
        body.send_keys(Keys.CONTROL, "z")
        page.until(page.settled)
        page.driver.execute_script("document.activeElement.blur()")
        page.button("Play").click()
        page.until(
            lambda: (
                len(page.find("[data-clock]").text)
                and int(page.find('[aria-label="Frame"]').get_attribute("aria-valuenow") or 0) > 160
            )
        )
        page.button("Pause").click()
        page.until(page.settled)
        take("shot")
        sheet = Delivering(page)
        sheet.choose("Over the plate")
        sheet.order(250)
        sheet.choose("Passes")
        sheet.open("Time")
        sheet.put("Speed", "40")
        page.until(lambda: "frames/s" in page.find("[data-delivery]").text)
        take("deliver")
        page.find('[role="dialog"]').send_keys(Keys.ESCAPE)
        page.until(lambda: not page.all('[role="dialog"]'))
        body.send_keys("p")
        page.until(
            lambda: (
                page.all('[role="dialog"] img')
                and page.driver.execute_script(
                    "return [...document.querySelectorAll('[role=dialog] img')].every((i) => i.naturalWidth > 0)"
                )
            )
        )
        take("plate")
        page.find('[role="dialog"]').send_keys(Keys.ESCAPE)
        page.until(lambda: not page.all('[role="dialog"]'))
        page.button("Change the theme").click()
        page.button("Presets for opacity").click()
        page.until(lambda: page.all("[data-popover-content]") or page.button("Twinkle"))
        take("snowfield")
        page.button("Change the theme").click()
        page.driver.execute_script("document.activeElement.blur()")
        body.send_keys("?")
        page.until(lambda: len(page.all('[aria-label="Pages of the handbook"] button')) > 30)
        next(
            b for b in page.all('[aria-label="Pages of the handbook"] button') if b.text.startswith("The fountain")
        ).click()
        page.until(lambda: page.driver.execute_script("return document.querySelector('[data-page] img')?.complete"))
        take("help")
        page.find('[role="dialog"]').send_keys(Keys.ESCAPE)
        page.until(lambda: not page.all('[role="dialog"]'))
        for name, shot, thing, ready in (
            ("graph", 2, "Bow", lambda: page.button("Graph of Position X").click()),
            ("drivers", 4, "Plankton", lambda: page.find('[aria-label^="What drives Opacity"]').click()),
            ("fountain", 11, "Waves", lambda: open_section(page, "Trails, strands, water", shut=("Body", "Look"))),
            ("titles", 6, "Title", lambda: in_the_wind(page)),
            ("lanterns", 15, "Hull of net", lambda: None),
            ("rooftops", 16, "Houses", lambda: None),
            (
                "sound",
                14,
                "Night music",
                lambda: next(b for b in page.all("aside li button") if b.text == "Curtain: brightness").click(),
            ),
        ):
            page.open(f"/shots/{shot}")
            warm(page)
            next(b for b in page.all("aside ul button") if b.text == thing).click()
            ready()
            time.sleep(2)
            page.until(page.settled)
            take(name)
        compared(page, studio.address, take)
        swept(page, take)
        page.find("body").send_keys("b")
        page.until(lambda: len(page.all("[data-preset]")) > 8)
        moving(page, '[role="dialog"] [data-moving]', len(page.all("[data-preset]")))
        take("library")
        page.open("/")
        page.until(lambda: page.all("article"))
        moving(page, "article [data-moving]", len(page.all("article")))
        take("projects")
    finally:
        page.close()
        studio.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]))
