"""Delivering a shot: what is ordered, which moments that means, how it is made, and what becomes of the files."""

from isbjorn.core.deliver.delivery import Delivery, deliver, named_order
from isbjorn.core.deliver.order import FARTHEST_FRAME, MOST_FRAMES, Order, Retime, check_order, has_alpha

__all__ = [
    "FARTHEST_FRAME", "MOST_FRAMES", "Delivery", "Order", "Retime", "check_order", "deliver", "has_alpha", "named_order",
]  # fmt: skip
