"""Models on the screen: a surface takes the form of a file, which another thing then chooses by its picture."""

import tempfile
import unittest
from pathlib import Path

import trimesh

from tests.browser.looking import Looking


class Models(Looking):
    def added(self, kind: str) -> None:
        self.page.find('[aria-label="Add to the cast"]').click()
        next(i for i in self.page.all('[role="menuitem"]') if i.text.startswith(kind)).click()
        self.page.until(lambda: self.page.all("aside")[-1].text.startswith(kind), f"no properties of a {kind}")
        self.page.until(lambda: self.page.settled())

    def choose(self, field: str, value: str) -> None:
        self.press(f'aside [aria-label="{field}"]')
        next(i for i in self.page.all('[role="option"]') if i.text == value).click()
        self.page.until(lambda: self.page.settled())

    def test_a_surface_takes_a_file_and_a_zone_chooses_it_by_its_picture(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        trimesh.creation.icosphere(subdivisions=2).export(folder / "float.glb")
        self.added("Surface")
        self.choose("Shape", "Model")
        self.choose("Form", "File")
        self.page.button("Select a model …").click()
        self.page.find('input[aria-label="Import a model"]').send_keys(str(folder / "float.glb"))

        def surface() -> dict:  # type: ignore[type-arg]
            return next(f for f in self.document()["forces"] if f["kind"] == "surface" and f["shape"] == "model")

        self.page.until(lambda: surface()["model"]["name"] == "float.glb")
        self.added("Zone")
        self.choose("Shape", "Model")
        self.choose("Form", "File")
        self.page.button("Select a model …").click()
        self.page.until(lambda: any("float.glb" in t.text for t in self.page.all('[role="dialog"] button')))
        tile = next(t for t in self.page.all('[role="dialog"] button') if "float.glb" in t.text)
        self.assertIn("320 faces", tile.text)
        picture = tile.find_element("css selector", "img")
        self.page.until(lambda: self.page.driver.execute_script("return arguments[0].naturalWidth", picture) == 160)
        tile.click()
        self.page.until(
            lambda: (
                [z["model"]["digest"] for z in self.document()["zones"] if z["shape"] == "model"]
                == [surface()["model"]["digest"]]
            )
        )
        # Its outline is on the picture.
        self.page.until(lambda: self.page.settled())
        self.assertEqual(self.page.errors(), [])

    def test_a_model_is_shown_in_a_material_and_catches_light(self) -> None:
        self.added("Matte")
        self.choose("Kind", "Model")
        before = self.page.pixels()

        def matte() -> dict:  # type: ignore[type-arg]
            return next(m for m in self.document()["mattes"] if m["kind"] == "model")

        # A box that stands for something is not seen.
        self.switch("Show the model")
        self.page.until(lambda: matte()["visible"] and self.page.settled())
        shown = self.page.pixels()
        self.assertNotEqual(shown, before)
        self.choose("Material", "Metal")
        self.page.until(lambda: matte()["look"]["material"] == "metal" and self.page.settled())
        dark = self.page.pixels()
        self.assertNotEqual(dark, shown)
        # Light of an emitter before it brightens it.
        self.type_into("Position Z", "-300")
        self.page.until(lambda: matte()["depth"]["value"] == -300 and self.page.settled())
        self.type_into("Caught light", "4000")
        self.switch("Lit by Embers")
        self.page.until(lambda: matte()["lit_by"] == ["embers"])
        self.page.until(lambda: self.page.settled() and sum(self.page.pixels()) > sum(dark), "no light fell on it")

    def switch(self, label: str) -> None:
        self.press(f'aside [role="switch"][aria-label="{label}"]')


if __name__ == "__main__":
    unittest.main()
