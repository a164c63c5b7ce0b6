"""Measurements of the engine and of the studio: `isbjorn bench`."""
