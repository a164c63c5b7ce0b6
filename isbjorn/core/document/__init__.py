"""What a shot is: the document that everything else reads. Data only; behaviour lives beside it."""

from isbjorn.core.document.curves import ColourStop, Curve, CurvePoint, Gradient, OpacityStop
from isbjorn.core.document.emitter import Body, Emitter
from isbjorn.core.document.forces import Drag, Force, Gravity
from isbjorn.core.document.plate import Plate
from isbjorn.core.document.shapes import Disc, Line, Point, Rectangle, Shape
from isbjorn.core.document.shot import Camera, Link, Shot
from isbjorn.core.document.values import Number, Spec

__all__ = [
    "Body",
    "Camera",
    "ColourStop",
    "Curve",
    "CurvePoint",
    "Disc",
    "Drag",
    "Emitter",
    "Force",
    "Gradient",
    "Gravity",
    "Line",
    "Link",
    "Number",
    "OpacityStop",
    "Plate",
    "Point",
    "Rectangle",
    "Shape",
    "Shot",
    "Spec",
]
