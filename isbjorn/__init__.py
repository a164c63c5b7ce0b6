"""Isbjorn: particle emitters designed and rendered over footage, exactly, at any frame."""

__version__ = "0.1.0"
