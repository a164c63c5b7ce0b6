"""Parts of an emitter that switch on more than bodies: lines, skins, strands, water, recorded motion."""
