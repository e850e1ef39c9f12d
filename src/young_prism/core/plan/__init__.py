"""Originals x recipe -> the renditions to make, and why not the others. No pixel is touched."""
