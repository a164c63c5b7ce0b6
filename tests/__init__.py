"""Tests of Isbjorn. What is drawn at random has no time limit: the first call of a kernel loads it."""

from contextlib import suppress

# Optional: not every importer of these helpers has it.
with suppress(ImportError):
    from hypothesis import settings

    settings.register_profile("isbjorn", deadline=None)
    settings.load_profile("isbjorn")
