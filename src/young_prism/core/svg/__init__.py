"""Drawings in SVG: what they may hold, and taking out the rest."""

SANITISER_VERSION = 3
"""Part of the key of each drawing. Raise it when the output of `sanitise` changes. Here, so that a plan needs no parser."""
MINIFIER = "scour"
"""The package that minifies drawings: another version of it may give other bytes."""
