"""What is drawn at a moment: the camera, bodies and their pictures, lights, paths while the shutter is open."""
