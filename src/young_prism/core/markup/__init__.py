"""Markup that puts renditions to use."""
