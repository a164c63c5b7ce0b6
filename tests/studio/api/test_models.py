"""Models over the API: taken in, drawn, exported with the project, and refused."""

import io
import unittest
import zipfile

import trimesh

from tests.studio import in_studio


class Models(in_studio.InStudio):
    def test_a_model_becomes_a_body_and_goes_with_the_project(self) -> None:
        content = trimesh.creation.icosphere(subdivisions=2).export(file_type="glb")
        answer = self.client.put(f"/api/projects/{self.project}/models?name=globe.glb", content=content)
        self.assertEqual(answer.status_code, 201, answer.text)
        model = answer.json()
        self.assertEqual((model["faces"], model["closed"], model["name"]), (320, True, "globe.glb"))
        (listed,) = self.client.get(f"/api/projects/{self.project}/models").json()
        self.assertEqual({key: listed[key] for key in ("media", "digest", "name", "faces")}, {
            key: model[key] for key in ("media", "digest", "name", "faces")
        })  # fmt: skip
        self.assertAlmostEqual(listed["longest"], 2, places=3)
        self.assertTrue(listed["closed"])
        body = {"kind": "model", "form": "file"} | {key: model[key] for key in ("media", "digest", "name")}
        emitter = {
            "id": "e",
            "name": "Globes",
            "rate": 40,
            "size": 60,
            "body": body,
            "shape": body | {"births": "edges", "sharp": 0},
        }
        emitter["shape"] = {key: value for key, value in emitter["shape"].items()}
        change = [{"op": "add", "path": "/emitters/0", "value": emitter}]
        self.assertEqual(
            self.client.patch(f"/api/shots/{self.shot}", json={"changes": change, "label": "Globes"}).status_code, 200
        )
        frame = self.client.get(f"/api/shots/{self.shot}/frame?frame=30&width=320")
        self.assertEqual(frame.status_code, 200, frame.text)
        package = self.client.get(f"/api/projects/{self.project}/export")
        names = zipfile.ZipFile(io.BytesIO(package.content)).namelist()
        self.assertIn(f"media/{model['media']}", names)

    def test_a_model_whose_file_is_gone_is_not_listed(self) -> None:
        content = trimesh.creation.box().export(file_type="stl")
        model = self.client.put(f"/api/projects/{self.project}/models?name=box.stl", content=content).json()
        path = self.app.state.studio.store.media_folder / model["media"]
        path.write_bytes(b"no model")
        self.assertEqual(self.client.get(f"/api/projects/{self.project}/models").json(), [])
        path.unlink()
        self.assertEqual(self.client.get(f"/api/projects/{self.project}/models").json(), [])

    def test_what_is_no_model_is_refused_and_leaves_nothing(self) -> None:
        before = sorted(self.app.state.studio.store.media_folder.iterdir())
        for name, content in (("text.txt", b"x"), ("empty.obj", b""), ("noise.glb", bytes(100)), ("cut.stl", b"solid")):
            answer = self.client.put(f"/api/projects/{self.project}/models?name={name}", content=content)
            self.assertIn(answer.status_code, (400, 422), name)
            self.assertTrue(answer.json()["remedy"], name)
        self.assertEqual(sorted(self.app.state.studio.store.media_folder.iterdir()), before)


if __name__ == "__main__":
    unittest.main()
