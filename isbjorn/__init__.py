"""Isbjorn: particle emitters designed and rendered over footage, exactly, at any frame."""

import os

# Matrices are small here: BLAS's own threads would wait for each other, and take the cores from processes beside this one.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
