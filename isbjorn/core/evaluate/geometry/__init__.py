"""Forms: outlines, letters, meshes and their trees, models from files."""
