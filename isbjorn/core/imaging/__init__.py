"""What plates, renderer and writers share: colour, display encoding, blur and resampling."""
