"""Controllers and other programs: messages in, particles out."""
