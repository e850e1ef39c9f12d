"""Decode, orient, convert colour, resize: everything that touches pixels before an encoder does."""
