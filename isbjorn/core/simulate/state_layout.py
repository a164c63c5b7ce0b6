"""Rows of the states of particles: the meaning of each number."""

ROWS = 15
# 0 to 2 place in px, 3 to 5 velocity in px/s, then lifespan in s; of particles stepped in a world: mass, first velocity (3), size
# in px, age in s at the first touch (-1: none), contact state, age at removal.
LIFE, MASS, FIRST_VELOCITY, SIZE, TOUCHED, HOW, GONE_AT = 6, 7, 8, 11, 12, 13, 14
# Two more rows for contagion: the age at infection, and the age since when an infected one has been near; -1: never.
CAUGHT, NEAR_SINCE = 15, 16
STATE_ROWS = 17
# Four more rows of bodies that push each other: whether something was in the way of a body in the last step (1) or not (0), and the
# velocity by which it moved in it, px/s, which is then the one that is seen.
HINDERED, MOVED = 17, 18
PUSHED_ROWS = 21
