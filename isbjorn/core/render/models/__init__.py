"""Particles drawn as models: meshes in tiles, depth-tested among themselves, with materials and surroundings."""
