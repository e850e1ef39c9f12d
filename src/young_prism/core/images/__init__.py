"""Original images as files: what they are by their bytes, without decoding a pixel."""
