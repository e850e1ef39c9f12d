"""Drawings in SVG: what they may hold, and taking out the rest."""
