"""The API of a project: its media, models, cuts and set list."""
