"""Scenes, tracks, particles and control from and for other programs: USD, tables, MIDI."""
