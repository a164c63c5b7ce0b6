"""Plates, pictures, movies, sounds, timecode and models from files."""
