"""What a shot is: the document that everything else reads. Data only; behaviour is in other packages."""

from isbjorn.core.document.emitter_parts.lines import Heads, Lines, Trail
from isbjorn.core.document.fields.curves import ColourStop, Curve, CurvePoint, Gradient, OpacityStop
from isbjorn.core.document.fields.placed import Marker, MotionPath, PathPoint, Placed
from isbjorn.core.document.fields.sounds import Hearing, Sound
from isbjorn.core.document.fields.values import Flutter, Key, Number, Source, Spec
from isbjorn.core.document.model.compositing import Group, Lamp, Matte, Use
from isbjorn.core.document.model.controls import Control, Incoming
from isbjorn.core.document.model.emitter import BirthTint, Burst, Emitter
from isbjorn.core.document.model.plate import Plate
from isbjorn.core.document.model.shot import Camera, Link, Shot
from isbjorn.core.document.model.takes import Take
from isbjorn.core.document.model.unions import Body, Force, Shape, Step
from isbjorn.core.document.parts.air import Displacement, Drag, Gravity, Turbulence, Wind
from isbjorn.core.document.parts.attraction import Attractor, Follow, Vortex
from isbjorn.core.document.parts.bodies import (
    Drop,
    PictureBody,
    Puff,
    Ring,
    Round,
    Shard,
    Spark,
    Square,
    Star,
    Streak,
    Words,
)
from isbjorn.core.document.parts.effects import Blur, DirectionalBlur, Glow, Grade, Grain, Sharpen, Tint
from isbjorn.core.document.parts.shapes import (
    Artwork,
    Ball,
    Box,
    Disc,
    FromPlate,
    Letters,
    Line,
    PathShape,
    Point,
    Rectangle,
)
from isbjorn.core.document.parts.surfaces import Remove, Surface, Zone

__all__ = [
    "Artwork",
    "Attractor",
    "Ball",
    "BirthTint",
    "Blur",
    "Body",
    "Box",
    "Burst",
    "Camera",
    "ColourStop",
    "Control",
    "Curve",
    "CurvePoint",
    "DirectionalBlur",
    "Disc",
    "Displacement",
    "Drag",
    "Drop",
    "Emitter",
    "Flutter",
    "Follow",
    "Force",
    "FromPlate",
    "Glow",
    "Grade",
    "Gradient",
    "Grain",
    "Gravity",
    "Group",
    "Heads",
    "Hearing",
    "Incoming",
    "Key",
    "Lamp",
    "Letters",
    "Line",
    "Lines",
    "Link",
    "Marker",
    "Matte",
    "MotionPath",
    "Number",
    "OpacityStop",
    "PathPoint",
    "PathShape",
    "PictureBody",
    "Placed",
    "Plate",
    "Point",
    "Puff",
    "Rectangle",
    "Remove",
    "Ring",
    "Round",
    "Shape",
    "Shard",
    "Sharpen",
    "Shot",
    "Sound",
    "Source",
    "Spark",
    "Spec",
    "Square",
    "Star",
    "Step",
    "Streak",
    "Surface",
    "Take",
    "Tint",
    "Trail",
    "Turbulence",
    "Use",
    "Vortex",
    "Wind",
    "Words",
    "Zone",
]
