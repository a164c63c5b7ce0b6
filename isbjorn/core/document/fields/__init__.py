"""What every part of a document is made of: numbers, curves, places, references, and the registry of kinds."""
