"""The cast and the library over the API: adding, removing with all ties, artwork, recorded ways, kept emitters."""

import json
import unittest
from typing import Any

import numpy as np

from isbjorn.core.document.editing.scene_edits import alone, planted
from isbjorn.core.document.files import parse_shot
from isbjorn.demo.shots import bow_wave, plankton
from tests.studio.in_studio import InStudio

KINDS = (
    "emitter", "gravity", "wind", "drag", "turbulence", "displacement", "vortex", "attractor", "follow", "surface", "remove",
    "zone", "marker", "light", "matte", "group",
)  # fmt: skip
SVG = b'<svg xmlns="http://www.w3.org/2000/svg"><path d="M0 0H40V10H0Z"/></svg>'


class Cast(InStudio):
    def post(self, tail: str, **body: Any) -> Any:
        return self.client.post(f"/api/shots/{self.shot}{tail}", json=body)

    def test_everything_can_be_added_copied_seen_and_taken_out(self) -> None:
        for kind in KINDS:
            with self.subTest(kind):
                before = self.client.get(f"/api/shots/{self.shot}").json()["document"]
                lists = ("emitters", "forces", "zones", "markers", "lights", "mattes", "groups")
                old = {t["id"] for name in lists for t in before[name]}
                state = self.post("/cast", kind=kind).json()
                made = [t for name in lists for t in state["document"][name] if t["id"] not in old]
                self.assertEqual(len(made), 2 if kind == "remove" else 1)
                shown = [w["id"] for w in state["guides"]["world"]] + [
                    g["emitter"] for g in state["guides"]["emitters"]
                ]
                self.assertTrue(kind == "group" or all(t["id"] in shown for t in made), "a group has no place")
                copy = self.post("/cast", kind=kind, copy_of=made[-1]["id"]).json()["document"]
                names = [t["name"] for name in lists for t in copy[name]]
                self.assertEqual(len(names), len(set(names)))
                for thing in made:
                    answer = self.client.delete(f"/api/shots/{self.shot}/cast/{thing['id']}")
                    self.assertEqual(answer.status_code, 200, answer.text)
                picture = self.client.get(f"/api/shots/{self.shot}/frame?frame=4&width=64")
                self.assertEqual(picture.status_code, 200)

    def test_a_new_force_reaches_everybody_and_a_copy_keeps_its_reach(self) -> None:
        state = self.post("/cast", kind="wind").json()["document"]
        wind = state["forces"][-1]["id"]
        self.assertIn({"force": wind, "emitter": state["emitters"][0]["id"]}, state["links"])
        self.edit("/links", [])
        copied = self.post("/cast", kind="wind", copy_of=wind).json()["document"]
        self.assertEqual(copied["links"], [])
        self.problem(self.post("/cast", kind="wind", copy_of="nobody"))

    def test_what_is_taken_out_leaves_no_tie_behind(self) -> None:
        shot = plankton("-").model_copy(update={"plate": None})
        given = self.client.post(f"/api/projects/{self.project}/shots/import", content=shot.model_dump_json()).json()
        state = self.client.delete(f"/api/shots/{given['id']}/cast/oar").json()["document"]
        text = json.dumps(state)
        self.assertNotIn('"oar"', text)
        self.assertEqual(state["zones"][0]["carried_by"], None)
        self.assertEqual(state["emitters"][0]["opacity"]["source"], None)
        state = self.client.delete(f"/api/shots/{given['id']}/cast/near").json()["document"]
        self.assertEqual(state["forces"][0]["zone"], None)

    def test_artwork_is_read_from_a_file_and_a_bad_one_is_named(self) -> None:
        emitter = self.client.get(f"/api/shots/{self.shot}").json()["document"]["emitters"][0]["id"]
        url = f"/api/shots/{self.shot}/artwork/{emitter}"
        state = self.client.post(f"{url}?name=buoy.svg", content=SVG).json()
        self.assertEqual(state["document"]["emitters"][0]["shape"]["name"], "buoy.svg")
        self.assertEqual(len(state["guides"]["emitters"][0]["shown"]["lines"]), 1)
        for content in (b"", b"<svg", b"GIF89a", b"<svg xmlns='http://www.w3.org/2000/svg'/>"):
            self.problem(self.client.post(url, content=content))
        self.problem(self.client.post(f"/api/shots/{self.shot}/artwork/nobody", content=SVG))

    def test_a_led_way_becomes_few_keys(self) -> None:
        emitter = self.client.get(f"/api/shots/{self.shot}").json()["document"]["emitters"][0]["id"]
        t = np.arange(0, 2, 0.04)
        samples = [{"at_s": float(a), "across": 100 * float(np.sin(a)), "up": 20 * float(a)} for a in t]
        state = self.post(f"/record/{emitter}", samples=samples).json()["document"]["emitters"][0]
        self.assertTrue(2 <= len(state["across"]["keys"]) < 12)
        self.assertAlmostEqual(state["across"]["keys"][-1]["value"], 100 * float(np.sin(t[-1])), delta=0.1)
        self.problem(self.post(f"/record/{emitter}", samples=[samples[3], samples[1]]))
        self.problem(self.post("/record/nobody", samples=samples))

    def test_guides_follow_the_frame_and_the_look(self) -> None:
        shot = bow_wave("-").model_copy(update={"plate": None})
        number = self.client.post(f"/api/projects/{self.project}/shots/import", content=shot.model_dump_json()).json()[
            "id"
        ]

        def scene(query: str) -> Any:
            return self.client.get(f"/api/shots/{number}/guides?{query}").json()

        early, late = scene("frame=0&thing=gusts"), scene("frame=200")
        self.assertTrue(early["moving"])
        self.assertGreater(late["emitters"][2]["shown"]["centre"][0], early["emitters"][2]["shown"]["centre"][0] + 300)
        self.assertEqual([g["path"] for g in early["graphs"]], ["/markers/0/across"])
        gusts = next(w for w in early["world"] if w["id"] == "gusts")
        self.assertGreater(len(gusts["arrows"]), 50)
        self.assertEqual(len(scene("frame=0&side=40&above=20")["picture"]), 5)
        self.assertEqual(early["picture"], [])

    def test_an_edit_is_answered_without_the_guides_that_are_there(self) -> None:
        shot = bow_wave("-").model_copy(update={"plate": None})
        body = shot.model_dump_json()
        number = self.client.post(f"/api/projects/{self.project}/shots/import", content=body).json()["id"]

        def sized(px: float, having: list[int] = [], frame: int = 40) -> tuple[dict[str, int], dict[str, Any]]:  # noqa: B006
            change = {"op": "replace", "path": "/emitters/1/size/value", "value": px}
            given = {"changes": [change], "frame": frame, "having": having}
            state = self.client.patch(f"/api/shots/{number}", json=given).json()
            return state["marks"], {guides["emitter"]: guides for guides in state["guides"]["emitters"]}

        marks, every = sized(5)
        self.assertEqual(list(every), [e.id for e in shot.emitters])
        edited = shot.emitters[1].id
        now, left = sized(6, list(marks.values()))
        self.assertEqual(list(left), [edited])
        self.assertEqual({name for name in marks if marks[name] != now[name]}, {edited})
        # What was left out is what it was; another frame has other guides.
        self.assertEqual(sized(6)[1], every | left)
        self.assertEqual(list(sized(6, list(now.values()), 90)[1]), list(every))
        self.assertEqual(list(sized(7, list(marks.values()))[1]), list(every))


class Library(InStudio):
    def test_shipped_emitters_are_found_shown_and_planted(self) -> None:
        cards = self.client.get("/api/emitters").json()
        self.assertGreater(len(cards), 8)
        found = self.client.get("/api/emitters?find=water flock").json()
        self.assertEqual([c["name"] for c in found], ["Herring"])
        for number, card in enumerate(cards):
            if number % 8 == 0:
                # A shot has a limit on forces.
                for field in ("links", "forces", "emitters", "zones", "markers", "lights"):
                    self.edit(f"/{field}", [])
            state = self.client.post(f"/api/shots/{self.shot}/plant", json={"preset": card["id"]}).json()
            self.assertIn(card["name"].split()[0], state["document"]["emitters"][-1]["name"])
        thumb = self.client.get(f"/api/emitters/{cards[0]['id']}/thumb")
        self.assertEqual((thumb.status_code, thumb.headers["content-type"]), (200, "image/jpeg"))

    def test_an_emitter_is_kept_tagged_exported_and_taken_in_again(self) -> None:
        emitter = self.client.get(f"/api/shots/{self.shot}").json()["document"]["emitters"][0]["id"]
        body = {"shot": self.shot, "emitter": emitter, "name": "Quay steam", "tags": ["vapour"]}
        card = self.client.post("/api/emitters", json=body).json()
        self.assertFalse(card["shipped"])
        words = {"name": "Quay vapour", "tags": ["low", "vapour"]}
        self.assertEqual(self.client.patch(f"/api/emitters/{card['id']}", json=words).json()["tags"], ["low", "vapour"])
        file = self.client.get(f"/api/emitters/{card['id']}/export")
        again = self.client.post("/api/emitters/import?name=x.json", content=file.content).json()
        self.assertEqual(len(self.client.get("/api/emitters?find=quay").json()), 2)
        self.assertEqual(self.client.delete(f"/api/emitters/{again['id']}").status_code, 204)
        self.problem(self.client.delete(f"/api/emitters/{again['id']}"), 404)
        self.problem(self.client.patch("/api/emitters/shipped-0", json=words), 404)
        self.problem(self.client.post("/api/emitters/import", content=b"{}"))
        self.problem(self.client.post("/api/emitters", json={**body, "emitter": "nobody"}))
        self.problem(self.client.post(f"/api/shots/{self.shot}/plant", json={"preset": "kept-99"}), 404)

    def test_what_is_kept_brings_all_that_it_depends_on(self) -> None:
        kept = alone(plankton("-"), "points")
        self.assertEqual([z.id for z in kept.zones], ["near"])
        self.assertEqual([m.id for m in kept.markers], ["oar"])
        self.assertEqual([e.id for e in kept.emitters], ["points"])
        shot, made = planted(plankton("-"), kept)
        self.assertEqual(parse_shot(shot.model_dump(mode="json")), shot)
        self.assertEqual(shot.emitters[-1].id, made)
        self.assertNotEqual(shot.emitters[-1].opacity.source.thing, "oar")  # type: ignore[union-attr]
        self.assertEqual(len(shot.markers), 2)


if __name__ == "__main__":
    unittest.main()
