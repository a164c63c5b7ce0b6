"""Tests of documents: what they hold, how they are edited, and what extensions bring."""
