"""One emitter drawn at a moment: its bodies, trails, strands, skin, ripples."""
