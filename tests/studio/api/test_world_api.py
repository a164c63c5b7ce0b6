"""Drivers and the world over the API: set, refused, undone, drawn, exported, and seen live."""

import unittest
from typing import Any

from pxr import Gf, Usd, UsdGeom

from isbjorn.core.document.files import shot_from_text
from tests.studio.in_studio import InStudio

CURVE = {"points": [{"at": 0, "value": 0.2}, {"at": 1, "value": 1}]}
DRIVERS: dict[str, Any] = {
    "keys": [{"at_s": 0, "value": 4}, {"at_s": 1, "value": 20, "joint": "hold"}],
    "flutter": {"times_per_s": 2, "amount": 3},
    "source": {"measure": "speed", "low": 0, "high": 300, "makes_low": 0.5, "makes_high": 2},
    "over_life": CURVE,
    "spread": 2.5,
    "reads": "life",
}


class Drivers(InStudio):
    def frame(self, number: int = 20) -> bytes:
        answer = self.client.get(f"/api/shots/{self.shot}/frame?frame={number}&width=160")
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer.content

    def test_each_driver_changes_the_picture_and_undo_takes_it_back(self) -> None:
        for name, value in DRIVERS.items():
            before = self.frame()
            self.edit(f"/emitters/0/size/{name}", value)
            with self.subTest(name):
                if name != "reads":
                    self.assertNotEqual(self.frame(), before)
                    self.client.post(f"/api/shots/{self.shot}/undo")
                    self.assertEqual(self.frame(), before)
                    self.client.post(f"/api/shots/{self.shot}/redo")
        number = self.document()["emitters"][0]["size"]
        self.assertEqual({name: number[name] for name in ("spread", "reads")}, {"spread": 2.5, "reads": "life"})
        self.assertEqual([k["value"] for k in number["keys"]], [4, 20])

    def test_a_wrong_driver_is_refused_with_its_field_and_nothing_changes(self) -> None:
        before = self.document()
        for path, value, word in (
            ("/emitters/0/size/keys", [{"at_s": 2, "value": 1}, {"at_s": 1, "value": 1}], "order"),
            ("/emitters/0/size/keys", [{"at_s": 0, "value": -9}], "out of range"),
            ("/emitters/0/rate/over_life", CURVE, "over-life"),
            ("/emitters/0/size/source", {"measure": "distance", "thing": "nobody"}, "nobody"),
            ("/emitters/0/brightness/over_life_to", CURVE, "needs a first"),
            ("/emitters/0/carried_by", "nobody", "nobody"),
            ("/forces/0/zone", "nowhere", "nowhere"),
            ("/emitters/0/shape", {"kind": "torus"}, "shape"),
        ):
            body = {"changes": [{"op": "replace", "path": path, "value": value}]}
            answer = self.client.patch(f"/api/shots/{self.shot}", json=body)
            with self.subTest(path=path, word=word):
                self.assertEqual(answer.status_code, 422)
                reported = answer.json()
                self.assertIn(word, f"{reported['what']} {reported['where']}")
        self.assertEqual(self.document(), before)

    def test_what_is_set_is_what_is_exported_and_comes_back(self) -> None:
        for kind in ("turbulence", "surface", "zone", "marker"):
            self.client.post(f"/api/shots/{self.shot}/cast", json={"kind": kind})
        document = self.document()
        self.edit("/forces/0/zone", document["zones"][0]["id"])
        self.edit("/emitters/0/carried_by", document["markers"][0]["id"])
        self.edit("/markers/0/path", {"points": [{"x": 0, "y": 0}, {"x": 90, "y": 9}], "along": 50})
        file = self.client.get(f"/api/shots/{self.shot}/export").content
        taken = self.client.post(f"/api/projects/{self.project}/shots/import", content=file).json()["id"]
        again = self.client.get(f"/api/shots/{taken}/export").content
        self.assertEqual(shot_from_text(again), shot_from_text(file))

    def test_a_keyed_number_comes_with_its_graph_and_an_edit_with_the_guides_of_its_frame(self) -> None:
        keys = [{"at_s": 0, "value": -100, "joint": "straight"}, {"at_s": 2, "value": 100, "joint": "straight"}]
        body = {"changes": [{"op": "replace", "path": "/emitters/0/across/keys", "value": keys}], "frame": 25}
        scene = self.client.patch(f"/api/shots/{self.shot}", json=body).json()["guides"]
        self.assertEqual(scene["frame"], 25)
        self.assertTrue(scene["moving"])
        values = scene["graphs"][0]["values"]
        self.assertEqual((scene["graphs"][0]["path"], values[0]), ("/emitters/0/across", -100))
        width = self.document()["width"]
        self.assertAlmostEqual(scene["emitters"][0]["shown"]["centre"][0], width / 2, delta=0.5)
        first = self.client.get(f"/api/shots/{self.shot}?frame=0").json()["guides"]
        self.assertAlmostEqual(first["emitters"][0]["shown"]["centre"][0], width / 2 - 100, delta=0.5)

    def test_a_world_is_delivered_as_it_is_seen(self) -> None:
        for kind in ("turbulence", "vortex", "surface"):
            self.client.post(f"/api/shots/{self.shot}/cast", json={"kind": kind})
        seen = [self.frame(n) for n in (5, 20, 5)]
        self.assertEqual(seen[0], seen[2])
        self.assertNotEqual(seen[0], seen[1])


class Scenes(InStudio):
    def test_a_camera_and_places_of_an_open_file_become_keys_of_the_shot(self) -> None:
        stage = Usd.Stage.CreateInMemory()
        UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
        UsdGeom.SetStageMetersPerUnit(stage, 1.0)
        stage.SetTimeCodesPerSecond(25)
        UsdGeom.Camera.Define(stage, "/Cam").GetFocalLengthAttr().Set(50)
        boat = UsdGeom.Xform.Define(stage, "/Boat").AddTranslateOp()
        for code in range(26):
            boat.Set(Gf.Vec3d(code / 25, 0, 0), code)
        content = stage.GetRootLayer().ExportToString().encode()
        answer = self.client.post(f"/api/shots/{self.shot}/scene?name=solve.usda", content=content)
        self.assertEqual(answer.status_code, 200, answer.text)
        self.assertEqual(sorted(answer.json()["taken"]), ["camera Cam", "marker Boat"])
        document = self.document()
        self.assertEqual(document["camera"]["kind"], "perspective")
        keys = document["markers"][-1]["across"]["keys"]
        self.assertEqual([(key["at_s"], key["value"]) for key in keys], [(0, 0), (1, 100)])
        self.client.post(f"/api/shots/{self.shot}/undo")
        self.assertEqual(self.document()["camera"]["kind"], "flat")
        self.assertIn(
            "not an OpenUSD", self.problem(self.client.post(f"/api/shots/{self.shot}/scene", content=b"#usda 1.0\n((("))
        )
        self.problem(self.client.post(f"/api/shots/{self.shot}/scene", content=b"PXR-USDC" + bytes(range(256)) * 8))


if __name__ == "__main__":
    unittest.main()
