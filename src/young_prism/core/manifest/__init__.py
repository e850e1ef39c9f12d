"""The JSON file next to the renditions that says what came from what."""
