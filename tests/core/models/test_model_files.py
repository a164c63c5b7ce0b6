"""Model files: what is read of each format, and what is refused with a reason."""

import json
import struct
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from isbjorn.core.document.parts.models import ModelBody
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.geometry.model_files import MOST_FACES, write_model
from isbjorn.core.evaluate.geometry.solids import mesh_of_solid
from isbjorn.core.media.read.models import ImportedModel, take_model


def glb(document: dict[str, Any], binary: bytes = b"") -> bytes:
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    chunks = struct.pack("<II", len(text), 0x4E4F534A) + text
    chunks += struct.pack("<II", len(binary), 0x004E4942) + binary if binary else b""
    return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks


class Read(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = self.enterContext(tempfile.TemporaryDirectory())

    def take(self, name: str, content: bytes | str) -> ImportedModel:
        path = Path(self.folder) / name
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        return take_model(str(path), str(Path(self.folder) / "model.npz"))

    def body(self, found: ImportedModel) -> ModelBody:
        return ModelBody(form="file", media=str(Path(self.folder) / "model.npz"), digest=found.digest)

    def test_every_format_gives_the_same_box(self) -> None:
        box = trimesh.creation.box((4.0, 2.0, 1.0))
        for ending in ("obj", "glb", "ply", "stl"):
            exported: Any = box.export(file_type=ending)
            found = self.take(f"box.{ending}", exported)
            self.assertEqual((found.faces, found.points, found.closed, found.inverted), (12, 8, True, False), ending)
            self.assertAlmostEqual(found.longest, 4, places=5)
            mesh = mesh_of_solid(self.body(found))
            np.testing.assert_allclose(np.ptp(mesh.points, axis=0), [2, 1, 0.5], atol=1e-6)
            self.assertAlmostEqual(mesh.volume, 1, places=5)

    def test_openusd_with_its_axis_and_its_places(self) -> None:
        text = """#usda 1.0
(upAxis = "Z")
def Xform "all" { double3 xformOp:translate = (5, 0, 0)
  uniform token[] xformOpOrder = ["xformOp:translate"]
  def Mesh "sheet" {
    int[] faceVertexCounts = [4]
    int[] faceVertexIndices = [0, 1, 2, 3]
    point3f[] points = [(0, 0, 0), (3, 0, 0), (3, 0, 6), (0, 0, 6)]
  }
}
"""
        found = self.take("sheet.usda", text)
        self.assertEqual((found.faces, found.longest, found.closed), (2, 6, False))
        # Up along z in the file is up along y here.
        np.testing.assert_allclose(np.ptp(mesh_of_solid(self.body(found)).points, axis=0), [1, 2, 0], atol=1e-6)

    def test_colours_of_points(self) -> None:
        ply = """ply
format ascii 1.0
element vertex 3
property float x
property float y
property float z
property uchar red
property uchar green
property uchar blue
element face 1
property list uchar int vertex_indices
end_header
0 0 0 255 0 0
1 0 0 0 255 0
0 1 0 0 0 255
3 0 1 2
"""
        mesh = mesh_of_solid(self.body(self.take("tri.ply", ply)))
        assert mesh.paint is not None
        np.testing.assert_allclose(mesh.paint.values[0, :3], np.eye(3), atol=1e-6)

    def test_faces_that_point_inward_are_turned(self) -> None:
        box = trimesh.creation.box((1, 1, 1))
        box.invert()
        found = self.take("box.stl", box.export(file_type="stl"))
        self.assertTrue(found.inverted)
        self.assertGreater(mesh_of_solid(self.body(found)).volume, 0)

    def test_what_cannot_be_read_is_refused_with_a_reason(self) -> None:
        triangle = "v 0 0 0\nv 1 0 0\nv 0 1 0\n"
        outside = {
            "asset": {"version": "2.0"}, "buffers": [{"uri": "/etc/passwd", "byteLength": 36}],
            "bufferViews": [{"buffer": 0, "byteLength": 36}],
            "accessors": [{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}],
            "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}], "nodes": [{"mesh": 0}], "scenes": [{"nodes": [0]}],
        }  # fmt: skip
        huge = outside | {
            "buffers": [{"byteLength": 36}],
            "accessors": [{"bufferView": 0, "componentType": 5126, "count": 100_000_000, "type": "VEC3"}],
        }
        files: dict[str, bytes | str] = {
            "empty.obj": "", "points.obj": triangle, "nan.obj": "v nan 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n",
            "index.obj": triangle + "f 1 2 99\n", "flat.obj": "v 0 0 0\nv 0 0 0\nv 0 0 0\nf 1 2 3\n", "text.stl": "no model",
            "cut.glb": glb(outside)[:40], "outside.gltf": json.dumps(outside), "outside.glb": glb(outside),
            "huge.glb": glb(huge, b"\0" * 36),
            "cut.ply": "ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nend_header\n0\n",
            "noise.usdc": b"PXR-USDC" + bytes(64),
            "empty.usda": "#usda 1.0\n", "bad.usda": '#usda 1.0\ndef Mesh "m" { int[] faceVertexCounts = [3]\n'
            "int[] faceVertexIndices = [0, 1, 7]\npoint3f[] points = [(0,0,0),(1,0,0),(0,1,0)] }\n",
        }  # fmt: skip
        for name, content in files.items():
            with self.assertRaises(IsbjornError, msg=name) as caught:
                self.take(name, content)
            self.assertEqual(caught.exception.where, name)
            self.assertTrue(caught.exception.remedy, name)
            self.assertNotIn(str(self.folder), str(caught.exception))

    def test_one_with_too_many_faces_is_refused(self) -> None:
        rows = b"".join(
            struct.pack("<12fH", *([0.0] * 3), *(float(n % 7 + k) for k in range(9)), 0) for n in range(1000)
        )
        content = bytes(80) + struct.pack("<I", MOST_FACES + 1000) + rows * ((MOST_FACES + 1000) // 1000)
        with self.assertRaisesRegex(IsbjornError, "too many faces"):
            self.take("many.stl", content)

    def test_a_damaged_store_is_reported(self) -> None:
        found = self.take("box.obj", trimesh.creation.box((1, 1, 1)).export(file_type="obj"))
        body = self.body(found)
        path = Path(self.folder) / "model.npz"
        write_model(path, np.full((3, 3), np.nan, np.float32), np.array([[0, 1, 2, -1]], np.int32), None, 1, False)
        with self.assertRaisesRegex(IsbjornError, "replaced"):
            mesh_of_solid(body.model_copy(update={"smooth": body.smooth.model_copy(update={"value": 41.0})}))


if __name__ == "__main__":
    unittest.main()
