"""A running studio with the demonstration, and Chromium looking at it."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import sys
import tempfile
import urllib.request
from pathlib import Path
from typing import Any

from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.ui import WebDriverWait

from tests.painted import FRAMES, demonstration
from tests.waiting import HANG_S, until

_FLAGS = (
    "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--disable-dev-shm-usage", "--hide-scrollbars",
)  # fmt: skip


class Running:
    """The studio in a separate process, over a temporary folder."""

    def __init__(self, folder: Path | None = None, frames: int = FRAMES, **env: str) -> None:
        self.env = env
        self.folder = folder or Path(tempfile.mkdtemp())
        demonstration(self.folder, frames)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self.address = f"http://127.0.0.1:{self.port}"
        self.start()

    def start(self) -> None:
        command = [sys.executable, "-m", "isbjorn", "serve", "--port", str(self.port), "--data", str(self.folder)]
        # Several studios run in parallel, each with a browser: one process each is enough, and nothing is drawn unasked.
        frugal = {"ISBJORN_FRAME_WORKERS": "1", "ISBJORN_PROCESSES": "1", "ISBJORN_FILL": "0"}
        self.process = subprocess.Popen(command, stdout=subprocess.DEVNULL, env=frugal | os.environ | self.env)
        until(self._answers, "the studio did not start")

    def _answers(self) -> bool:
        try:
            return bool(urllib.request.urlopen(f"{self.address}/api/health", timeout=10))
        except OSError:
            return False

    def kill(self) -> None:
        self.process.kill()
        self.process.wait()

    def close(self) -> None:
        self.process.terminate()
        self.process.wait(HANG_S)
        shutil.rmtree(self.folder, ignore_errors=True)


class Page:
    """Chromium, with words for what a person does."""

    def __init__(self, address: str, width: int = 1280, height: int = 800) -> None:
        self.address = address
        self.profile = tempfile.mkdtemp()
        options = webdriver.ChromeOptions()
        options.binary_location = shutil.which("chromium") or "chromium"
        for flag in (*_FLAGS, f"--user-data-dir={self.profile}", f"--window-size={width},{height}"):
            options.add_argument(flag)
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        self.driver = webdriver.Chrome(options=options, service=webdriver.ChromeService(shutil.which("chromedriver")))
        self.metrics = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False}
        self.begin(address)

    def begin(self, address: str) -> None:
        """As if it had just been started, to look at a studio."""
        first, *others = self.driver.window_handles
        for other in others:
            self.driver.switch_to.window(other)
            self.driver.close()
        self.driver.switch_to.window(first)
        self.driver.get("about:blank")
        for origin in {self.address, address} - {"about:blank"}:
            self.driver.execute_cdp_cmd("Storage.clearDataForOrigin", {"origin": origin, "storageTypes": "all"})
        self.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "", "features": []})
        self.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", self.metrics)
        self.driver.get_log("browser")
        self.address = address

    def close(self) -> None:
        self.driver.quit()
        shutil.rmtree(self.profile, ignore_errors=True)

    def open(self, path: str) -> None:
        self.driver.get(self.address + path)

    def until(self, true, reported: str = "") -> object:  # type: ignore[no-untyped-def]
        """Wait for a condition; its value."""
        return WebDriverWait(self.driver, HANG_S, 0.05, [Exception]).until(lambda _: true(), reported)

    def find(self, css: str) -> WebElement:
        self.until(lambda: self.driver.find_elements(By.CSS_SELECTOR, css), f"nothing matches {css}")
        return self.driver.find_element(By.CSS_SELECTOR, css)

    def all(self, css: str) -> list[WebElement]:
        return self.driver.find_elements(By.CSS_SELECTOR, css)

    def button(self, text: str) -> WebElement:
        path = f"//button[normalize-space()='{text}' or @aria-label='{text}']"
        self.until(lambda: self.driver.find_elements(By.XPATH, path), f"no button {text}")
        return self.driver.find_element(By.XPATH, path)

    def revision(self) -> int:
        return int(self.find("canvas").get_attribute("data-revision") or -1)

    def settled(self) -> bool:
        """The exact picture shows the newest revision and the frame that is asked for, and everything is saved."""
        saved = self.find("[data-saved]")
        canvas, slider = self.find("canvas"), self.find('[aria-label="Frame"]')
        return (
            saved.get_attribute("data-saved") == "yes"
            and saved.text == f"Saved, revision {canvas.get_attribute('data-revision')}"
            and canvas.get_attribute("data-exact") == "true"
            and canvas.get_attribute("data-frame") == slider.get_attribute("aria-valuenow")
        )

    def pixels(self) -> list[int]:
        """A coarse fingerprint of the picture: the sums of red, green and blue."""
        script = """const c = document.querySelector('canvas'), d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data;
        let s = [0, 0, 0]; for (let i = 0; i < d.length; i += 4) for (let k = 0; k < 3; k++) s[k] += d[i + k]; return s;"""
        return self.driver.execute_script(script)

    def errors(self) -> list[str]:
        return [line["message"] for line in self.driver.get_log("browser") if line["level"] == "SEVERE"]


class Delivering:
    """The sheet of deliveries of a page."""

    def __init__(self, page: Page) -> None:
        self.page = page
        page.button("Deliver").click()
        page.until(lambda: page.all('[role="dialog"] form [aria-label="Format"]'))

    def open(self, part: str) -> None:
        """Open a part of the form."""
        head = self.page.find(f'[role="dialog"] section[aria-label="{part}"] > button')
        if head.get_attribute("aria-expanded") != "true":
            head.click()

    def box(self, label: str) -> Any:
        return next(x for x in self.page.all('[role="dialog"] label') if x.text.startswith(label)).find_element(
            "css selector", "input"
        )

    def put(self, label: str, text: str) -> None:
        """Type into a field."""
        box = self.box(label)
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys(text, Keys.ENTER)

    def choose(self, purpose: str) -> None:
        """Enter a purpose, and wait for the estimate."""
        nav = self.page.find('[aria-label="Purposes"]')
        next(b for b in nav.find_elements("css selector", "button") if b.text.startswith(purpose)).click()

    def order(self, count: int) -> None:
        """Put it into the queue, once the estimate says that it has this many frames."""
        label = f"Deliver {count} frame" + ("s" if count > 1 else "")
        self.page.until(
            lambda: any(b.text == label and b.is_enabled() for b in self.page.all('[role="dialog"] form button.main'))
        )
        self.page.find('[role="dialog"] form button.main').click()
