"""Drawings in SVG: what they may hold, and taking out the rest."""

SANITISER_VERSION = 2
"""Part of the key of each drawing. Raise it when the output of `sanitise` changes. Here, so that a plan needs no parser."""
