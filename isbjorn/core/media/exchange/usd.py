"""Particles as OpenUSD points: one file for all frames, at the shot's time codes, with its camera.

x points right, y up, z toward the viewer, as in a shot; one unit is a px. Of each emitter: points, velocities (px/s), widths (px),
ids, and as primvars displayColor (linear Rec.709), displayOpacity, age and life (s) and angle (degrees). Where bodies are models,
the points are guides, and a point instancer beside them has the meshes as its prototypes.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Tf, Usd, UsdGeom, Vt

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.render.draw.poses import Poses, prototypes
from isbjorn.core.render.models.bodies import has_models
from isbjorn.core.render.scene.camera import projection

_ROOT = "/Shot"
# How the bodies of an emitter stand: shot time in s, its place in the cast, its particles.
Pose = Callable[[float, int, Particles], Poses]
# Frames between two saves, which bounds the memory.
_HELD_BYTES = 64 << 20
_FARTHEST = 1e7
_PRIMVARS = {
    "displayColor": ("colour", Sdf.ValueTypeNames.Color3fArray), "displayOpacity": ("opacity", Sdf.ValueTypeNames.FloatArray),
    "age": ("age", Sdf.ValueTypeNames.FloatArray), "life": ("life", Sdf.ValueTypeNames.FloatArray),
    "angle": ("angle", Sdf.ValueTypeNames.FloatArray),
}  # fmt: skip


def emitter_paths(shot: Shot) -> list[str]:
    """Paths of each emitter's particles in a file, in the order of the cast."""
    found: list[str] = []
    for emitter in shot.emitters:
        plain = Tf.MakeValidIdentifier(emitter.name)
        name, number = plain, 1
        while f"{_ROOT}/{name}" in found or name == "Camera":
            number += 1
            name = f"{plain}_{number}"
        found.append(f"{_ROOT}/{name}")
    return found


class UsdWriter:
    """Writes frames to a file, in any number, in their order. Use as a context: it is whole when it ends well, else gone."""

    def __init__(self, path: Path, shot: Shot, rate: Fraction, numbers: range, pose: Pose | None = None) -> None:
        self.path, self.shot, self._pose = path, shot, pose
        self.paths = emitter_paths(shot)
        self._held = 0
        path.unlink(missing_ok=True)
        stage = Usd.Stage.CreateNew(str(path))
        UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
        UsdGeom.SetStageMetersPerUnit(stage, 1 / shot.px_per_metre)
        stage.SetTimeCodesPerSecond(float(rate))
        stage.SetFramesPerSecond(float(rate))
        stage.SetStartTimeCode(numbers[0])
        stage.SetEndTimeCode(numbers[-1])
        root = UsdGeom.Xform.Define(stage, _ROOT)
        stage.SetDefaultPrim(root.GetPrim())
        stage.SetMetadata("comment", f"{shot.name}, by Isbjorn")
        for place, emitter in zip(self.paths, shot.emitters, strict=True):
            points = UsdGeom.Points.Define(stage, place)
            points.GetPrim().SetDisplayName(emitter.name)
            points.SetWidthsInterpolation(UsdGeom.Tokens.vertex)
            for name, (_, kind) in _PRIMVARS.items():
                UsdGeom.PrimvarsAPI(points).CreatePrimvar(name, kind, UsdGeom.Tokens.vertex)
            if pose is not None and has_models(emitter):
                points.CreatePurposeAttr(UsdGeom.Tokens.guide)
                _define_models(stage, f"{place}_Models", emitter)
        UsdGeom.Camera.Define(stage, f"{_ROOT}/Camera")
        self._stage = stage

    def __enter__(self) -> UsdWriter:
        return self

    def __exit__(self, kind: object, *_: object) -> None:
        if kind is None:
            self._save(last=True)
        else:
            self._stage = None
            self.path.unlink(missing_ok=True)

    def _save(self, last: bool = False) -> None:
        try:
            self._stage.GetRootLayer().Save()
        except Tf.ErrorException as error:
            raise IsbjornError(
                f"the points could not be written ({str(error).strip()[:200]}).",
                str(self.path),
                "Check the free disk space.",
            ) from None
        # What is saved is read from the file again when it is asked for, and no longer held.
        self._stage, self._held = None, 0
        if not last:
            self._stage = Usd.Stage.Open(str(self.path))
            return
        handle = os.open(self.path, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)

    def add(self, number: int, seconds: float, particles: Particles) -> None:
        """Write a frame."""
        for n, place in enumerate(self.paths):
            p = particles.where(particles.emitter == n)
            points = UsdGeom.Points.Get(self._stage, place)
            points.GetPointsAttr().Set(_triples(p.position), number)
            points.GetVelocitiesAttr().Set(_triples(p.velocity), number)
            points.GetWidthsAttr().Set(Vt.FloatArray.FromNumpy(np.ascontiguousarray(p.size)), number)
            points.GetIdsAttr().Set(Vt.Int64Array.FromNumpy(np.ascontiguousarray(p.id)), number)
            points.GetExtentAttr().Set(_extent(p), number)
            for name, (own, kind) in _PRIMVARS.items():
                values = p[own].astype(np.float32)
                made = _triples(values) if kind == Sdf.ValueTypeNames.Color3fArray else Vt.FloatArray.FromNumpy(values)
                UsdGeom.PrimvarsAPI(points).GetPrimvar(name).Set(made, number)
            if self._pose is not None and has_models(self.shot.emitters[n]):
                self._instances(f"{place}_Models", number, p, self._pose(seconds, n, p))
        self._camera(number, seconds)
        self._held += 64 * len(particles) + 512 * len(self.paths)
        if self._held > _HELD_BYTES:
            self._save()

    def _instances(self, place: str, number: int, p: Particles, poses: Poses) -> None:
        made = UsdGeom.PointInstancer.Get(self._stage, place)
        made.GetProtoIndicesAttr().Set(Vt.IntArray.FromNumpy(poses.which.astype(np.int32)), number)
        made.GetPositionsAttr().Set(_triples(p.position), number)
        made.GetVelocitiesAttr().Set(_triples(p.velocity), number)
        made.GetScalesAttr().Set(_triples(poses.scale), number)
        made.GetIdsAttr().Set(Vt.Int64Array.FromNumpy(np.ascontiguousarray(p.id)), number)
        turns = [Gf.Quath(*(float(part) for part in turn)) for turn in _quaternions(poses.rotation)]
        made.GetOrientationsAttr().Set(Vt.QuathArray(turns), number)
        made.GetExtentAttr().Set(_extent(p), number)
        primvars = UsdGeom.PrimvarsAPI(made)
        primvars.GetPrimvar("displayColor").Set(_triples(p.colour), number)
        opacity = Vt.FloatArray.FromNumpy(np.ascontiguousarray(p.opacity, np.float32))
        primvars.GetPrimvar("displayOpacity").Set(opacity, number)
        self._held += 96 * len(p)

    def _camera(self, number: int, seconds: float) -> None:
        view = projection(self.shot, 1.0, seconds)
        camera = UsdGeom.Camera.Get(self._stage, f"{_ROOT}/Camera")
        width, height = self.shot.width, self.shot.height
        matrix = np.eye(4)
        matrix[:3, :3], matrix[3, :3] = view.axes, view.eye
        camera.MakeMatrixXform().Set(Gf.Matrix4d(matrix.tolist()), number)
        # Apertures and focal lengths are given in tenths of a unit.
        camera.GetHorizontalApertureAttr().Set(10.0 * width, number)
        camera.GetVerticalApertureAttr().Set(10.0 * height, number)
        kind = UsdGeom.Tokens.orthographic if view.lens_px is None else UsdGeom.Tokens.perspective
        camera.GetProjectionAttr().Set(kind)
        if view.lens_px is not None:
            camera.GetFocalLengthAttr().Set(10.0 * view.lens_px, number)
        camera.GetClippingRangeAttr().Set(Gf.Vec2f(1, _FARTHEST))


def _define_models(stage: Any, place: str, emitter: Any) -> None:
    """An instancer whose prototypes are the meshes of an emitter's bodies."""
    made = UsdGeom.PointInstancer.Define(stage, place)
    made.GetPrim().SetDisplayName(f"{emitter.name}, models")
    targets = []
    for k, mesh in enumerate(prototypes(emitter)):
        one = UsdGeom.Mesh.Define(stage, f"{place}/Prototypes/Body_{k}")
        counts = np.where(mesh.faces[:, 3] >= 0, 4, 3).astype(np.int32)
        one.CreatePointsAttr(_triples(mesh.points))
        one.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(counts))
        one.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.ascontiguousarray(mesh.faces[mesh.faces >= 0])))
        one.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        one.CreateNormalsAttr(_triples(mesh.normals[mesh.faces >= 0]))
        one.SetNormalsInterpolation(UsdGeom.Tokens.faceVarying)
        targets.append(one.GetPath())
    made.CreatePrototypesRel().SetTargets(targets)
    primvars = UsdGeom.PrimvarsAPI(made)
    primvars.CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray, UsdGeom.Tokens.vertex)
    primvars.CreatePrimvar("displayOpacity", Sdf.ValueTypeNames.FloatArray, UsdGeom.Tokens.vertex)


def _quaternions(rotation: Doubles) -> Doubles:
    """Unit quaternions (n, 4), the real part first, of rotation matrices (n, 3, 3) (Shepperd 1978, "Quaternion from rotation
    matrix")."""
    m = rotation
    trace = np.trace(m, axis1=1, axis2=2)
    # The largest of the four parts, from which the others follow.
    squares = np.stack([trace, 2 * m[:, 0, 0] - trace, 2 * m[:, 1, 1] - trace, 2 * m[:, 2, 2] - trace], axis=1) + 1
    largest, every = squares.argmax(axis=1), np.arange(len(m))
    products = np.empty((len(m), 4, 4))
    for k in range(4):
        products[:, k, k] = squares[:, k]
    for k, (i, j) in enumerate(((1, 2), (2, 0), (0, 1)), 1):
        products[:, 0, k] = products[:, k, 0] = m[:, j, i] - m[:, i, j]
        products[:, 1 + i, 1 + j] = products[:, 1 + j, 1 + i] = m[:, i, j] + m[:, j, i]
    found = products[every, largest]
    return np.asarray(found / np.linalg.norm(found, axis=1, keepdims=True))


def _triples(values: Any) -> Any:
    return Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(values, np.float32).reshape(-1, 3))


def _extent(p: Particles) -> Any:
    """The box around all of them."""
    if len(p) == 0:
        return _triples(np.zeros((2, 3)))
    half = p.size.astype(np.float32)[:, None] / 2
    return _triples(np.stack([(p.position - half).min(axis=0), (p.position + half).max(axis=0)]))
