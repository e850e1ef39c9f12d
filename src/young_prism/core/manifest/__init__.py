"""The JSON file beside the renditions that says what came from what."""
