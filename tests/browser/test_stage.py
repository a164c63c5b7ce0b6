"""The stage: the picture alone in a window, playing without end."""

from __future__ import annotations

import unittest

from selenium.webdriver.common.keys import Keys

from tests.browser.looking import Looking


class Stage(Looking):
    def setUp(self) -> None:
        super().setUp()
        self.page.open(f"/stage/{self.shot}")
        self.page.until(lambda: self.shown() == str(self.shot), "the stage stayed dark")

    def tearDown(self) -> None:
        super().tearDown()
        # It would play on.
        self.page.open("/")

    def shown(self) -> str:
        seen = [c for c in self.page.all("canvas[data-scene]") if float(c.value_of_css_property("opacity")) == 1]
        return (seen[-1].get_attribute("data-scene") or "") if seen else ""

    def frame(self) -> int:
        return int(self.page.find(f'canvas[data-scene="{self.shot}"]').get_attribute("data-frame") or -1)

    def test_it_plays_freezes_and_goes_black(self) -> None:
        first = self.frame()
        self.page.until(lambda: self.frame() > first + 3, "it does not play")
        body = self.page.find("body")
        body.send_keys(" ")
        self.page.until(lambda: self.page.all('[data-frozen="true"]'))
        still = self.frame()
        self.assertFalse(self.page.driver.execute_async_script("setTimeout(arguments[0], 600)"))
        self.assertEqual(self.frame(), still)
        body.send_keys(" ")
        self.page.until(lambda: self.frame() != still)
        body.send_keys("b")
        self.page.until(lambda: self.page.find("[data-black]").value_of_css_property("opacity") == "1")
        body.send_keys("b")
        self.page.until(lambda: self.page.find("[data-black]").value_of_css_property("opacity") == "0")

    def test_it_takes_up_what_is_edited(self) -> None:
        before = self.ask("GET", f"/api/shots/{self.shot}")["revision"]
        changes = [{"op": "replace", "path": "/last_frame", "value": 20}]
        self.ask("PATCH", f"/api/shots/{self.shot}", {"changes": changes})
        self.assertGreater(self.ask("GET", f"/api/shots/{self.shot}")["revision"], before)
        # It comes round within the new range.
        self.page.until(lambda: self.frame() <= 20)
        self.page.until(lambda: self.frame() > 12)
        self.page.until(lambda: self.frame() < 8)

    def test_the_next_shot_fades_in(self) -> None:
        self.page.find("body").send_keys(Keys.ARROW_RIGHT)
        self.page.until(lambda: self.shown() not in ("", str(self.shot)), "no other shot came")
        self.page.until(lambda: len(self.page.all("canvas[data-scene]")) == 1)
        self.assertEqual(self.page.errors(), [])


class Performed(Looking):
    """From the desk of faders to the stage, to a take, to keys."""

    def setUp(self) -> None:
        super().setUp()
        self.desk = self.page.driver.current_window_handle
        state = self.ask("POST", f"/api/shots/{self.shot}/cast", {"kind": "control"})
        self.project = state["project_id"]
        self.ask("PUT", f"/api/projects/{self.project}/set", {"entries": []})
        control = state["document"]["controls"][0]["id"]
        source = {
            "measure": "number",
            "thing": f"{control}.value",
            "makes_low": -300,
            "makes_high": 300,
            "combine": "add",
        }
        n = [e["id"] for e in state["document"]["emitters"]].index("embers")
        across = state["document"]["emitters"][n]["across"] | {"source": source}
        self.ask("PATCH", f"/api/shots/{self.shot}", {
            "changes": [{"op": "replace", "path": f"/emitters/{n}/across", "value": across}],
        })  # fmt: skip
        self.page.driver.switch_to.new_window("window")
        self.page.open("/faders")
        self.faders = self.page.driver.current_window_handle
        self.page.until(lambda: self.page.all('[data-desk="there"]'))

    def tearDown(self) -> None:
        super().tearDown()
        for window in self.page.driver.window_handles:
            if window != self.desk:
                self.page.driver.switch_to.window(window)
                self.page.driver.close()
        self.page.driver.switch_to.window(self.desk)
        self.ask("PUT", f"/api/projects/{self.project}/set", {"entries": []})
        self.page.open("/")

    def at(self, window: str) -> None:
        self.page.driver.switch_to.window(window)

    def move(self, fader: int, keys: str, times: int = 1) -> None:
        """Move a fader by keys, and come back."""
        back = self.page.driver.current_window_handle
        self.at(self.faders)
        for _ in range(times):
            self.page.find(f'[aria-label="Fader {fader}"]').send_keys(keys)
        self.at(back)

    def control(self) -> dict:
        return self.document()["controls"][0]

    def pad(self, number: int) -> None:
        back = self.page.driver.current_window_handle
        self.at(self.faders)
        self.page.find(f'[aria-label="Pad {number}"]').click()
        self.at(back)

    def test_a_fader_is_learnt_performed_kept_and_made_keys_of(self) -> None:
        self.at(self.desk)
        self.page.open(f"/shots/{self.shot}")
        self.page.until(self.page.settled)
        next(b for b in self.page.all("aside ul button") if b.text == "Control").click()
        next(b for b in self.page.all("button") if b.text == "Learn").click()
        self.move(3, Keys.ARROW_UP)
        self.page.until(lambda: self.control()["comes_from"]["address"] == "/desk/3", "it was not learnt")
        self.page.until(self.page.settled)

        self.page.open(f"/stage/{self.shot}")
        self.page.until(lambda: self.page.all('main[data-performed="yes"]'), "it is not performed")
        self.move(3, Keys.END)
        self.page.until(lambda: self.page.find("main").get_attribute("data-latency"), "no value arrived")
        for _ in range(6):
            self.move(3, Keys.HOME)
            self.move(3, Keys.END)
        body = self.page.find("body")
        body.send_keys("k")
        self.page.until(lambda: len(self.document()["takes"]) == 1, "no take was kept")
        take = self.document()["takes"][0]
        self.assertEqual(self.control()["take"], take["id"])

        self.page.open(f"/shots/{self.shot}")
        self.page.until(self.page.settled)
        next(b for b in self.page.all("aside ul button") if b.text == "Take").click()
        self.page.until(lambda: self.page.all("[data-take]"))
        self.assertGreater(float(self.page.find("[data-take]").get_attribute("data-take") or 0), 0.5)
        plays = '[role="switch"][aria-label="Control follows the take"]'
        self.page.find(plays).click()
        self.page.until(lambda: self.control()["take"] is None and self.page.settled())
        self.page.find(plays).click()
        self.page.until(lambda: self.control()["take"] == take["id"] and self.page.settled())
        next(b for b in self.page.all("button") if b.text.startswith("Keys from the take")).click()
        next(b for b in self.page.all("button") if b.text == "Convert to keys").click()
        self.page.until(lambda: len(self.control()["value"]["keys"]) > 4, "no keys came")
        self.assertIsNone(self.control()["take"])
        self.page.until(self.page.settled)
        # On the graph, the keys over what was performed.
        next(b for b in self.page.all("aside ul button") if b.text == "Control").click()
        self.page.until(lambda: self.page.all('[aria-label="Graph of Value"]'))
        self.page.find('[aria-label="Graph of Value"]').click()
        self.page.until(lambda: self.page.all("[data-performed]"), "the take is not drawn")
        self.assertLessEqual(float(self.page.find("[data-performed]").get_attribute("data-performed") or 1), 0.0041)

    def test_a_set_list_is_made_and_a_pad_brings_a_shot(self) -> None:
        self.at(self.desk)
        self.page.open(f"/stage/{self.shot}")
        self.page.until(lambda: self.page.all("canvas[data-scene]"), "the stage stayed dark")
        self.page.find("body").send_keys("l")
        self.page.until(lambda: self.page.all("aside[data-set]"))
        rows = self.page.all("aside[data-set] ol li")
        self.assertGreater(len(rows), 10)
        second = rows[1]
        fade = second.find_element("css selector", "input")
        fade.send_keys(Keys.CONTROL + "a" + Keys.NULL + "0.2" + Keys.ENTER)
        url = f"/api/projects/{self.project}/set"
        self.page.until(lambda: self.ask("GET", url)["entries"][1]["fade_s"] == 0.2, "the fade was not kept")
        next(b for b in self.page.all("aside[data-set] ol li:nth-child(2) button") if b.text == "Learn").click()
        self.pad(5)
        self.page.until(
            lambda: self.ask("GET", url)["entries"][1]["address"] == "/desk/pad/5", "the pad was not learnt"
        )
        bow_wave = self.ask("GET", url)["entries"][1]["shot"]
        self.pad(5)
        self.page.until(lambda: self.page.all(f'main[data-stage="{bow_wave}"]'), "the pad brought nothing")
        # The pointer and a gamepad of this page arrive as all else does.
        self.page.driver.execute_script("""
            const pad = { index: 0, axes: [0, -0.75], buttons: [{ value: 0 }, { value: 1 }] };
            navigator.getGamepads = () => [pad];
            dispatchEvent(new Event('gamepadconnected'));
            const point = { clientX: innerWidth / 4, clientY: innerHeight / 2, buttons: 1 };
            dispatchEvent(new PointerEvent('pointermove', point));
        """)
        wanted = {
            "/gamepad/1/axis/2": -0.75,
            "/gamepad/1/button/2": 1,
            "/pointer/x": 0.25,
            "/pointer/y": 0.5,
            "/pointer/down": 1,
        }

        def there() -> bool:
            found = {one["address"]: one["value"] for one in self.ask("GET", "/api/incoming")["arrived"]}
            return all(abs(found.get(name, 9) - value) < 0.02 for name, value in wanted.items())

        self.page.until(there, "the devices of the page did not arrive")
        # The list is put in another order.
        self.page.find('aside[data-set] ol li:nth-child(2) [aria-label="Earlier"]').click()
        self.page.until(lambda: self.ask("GET", url)["entries"][0]["shot"] == bow_wave)


if __name__ == "__main__":
    unittest.main()
