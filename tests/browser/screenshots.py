"""Takes one current picture of each main view, from the demonstration: `make screenshots`."""

import sys
import tempfile
import time
from pathlib import Path

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.chromium import Page, Running


def main(folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    studio = Running(Path(tempfile.gettempdir()) / "isbjorn")
    page = Page(studio.address)

    def take(name: str) -> None:
        page.driver.save_screenshot(str(folder / f"{name}.png"))

    try:
        page.open("/shots/1")
        page.until(page.settled)
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
        page.button("Deliver").click()
        box = next(x for x in page.all('[role="dialog"] label') if x.text.startswith("Last frame")).find_element(
            "css selector", "input"
        )
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys("59")
        page.button("Deliver 60 frames").click()
        page.until(lambda: "frames/s" in page.find("[data-delivery]").text)
        take("deliver")
        page.find('[role="dialog"]').send_keys(Keys.ESCAPE)
        page.until(lambda: not page.all('[role="dialog"]'))
        body.send_keys("p")
        page.until(
            lambda: (
                page.all('[role="dialog"] img')
                and page.driver.execute_script("return document.querySelector('[role=dialog] img').complete")
            )
        )
        take("plate")
        page.find('[role="dialog"]').send_keys(Keys.ESCAPE)
        page.until(lambda: not page.all('[role="dialog"]'))
        body.send_keys("?")
        page.until(lambda: page.all('[role="dialog"] kbd'))
        take("keys")
        page.find('[role="dialog"]').send_keys(Keys.ESCAPE)
        page.until(lambda: not page.all('[role="dialog"]'))
        page.button("Change the theme").click()
        page.button("Presets for opacity").click()
        page.until(lambda: page.all("[data-popover-content]") or page.button("Twinkle"))
        take("snowfield")
        page.button("Change the theme").click()
        for name, shot, thing, ready in (
            ("graph", 2, "Bow", lambda: page.button("Graph of Across").click()),
            ("drivers", 4, "Plankton", lambda: page.find('[aria-label^="What drives Opacity"]').click()),
            ("field", 3, "Swirl", lambda: page.until(lambda: len(page.all("main svg line")) > 60)),
            ("free-look", 5, "Their way", lambda: page.button("Look round").click()),
        ):
            page.open(f"/shots/{shot}")
            page.until(page.settled)
            next(b for b in page.all("aside ul button") if b.text == thing).click()
            ready()
            time.sleep(1)
            page.until(page.settled)
            take(name)
        page.find("body").send_keys("b")
        page.until(lambda: len(page.all("[data-preset]")) > 8)
        loaded = "return performance.getEntriesByType('resource').filter((r) => r.name.includes('/emitters/')).length"
        page.until(lambda: page.driver.execute_script(loaded) > 10)
        time.sleep(2)
        take("library")
        page.open("/")
        page.until(lambda: page.all("article"))
        page.until(
            lambda: page.driver.execute_script(
                "return performance.getEntriesByType('resource').filter((r) => r.name.includes('/thumb')).length > 4"
            )
        )
        time.sleep(1)
        take("projects")
    finally:
        page.close()
        studio.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]))
