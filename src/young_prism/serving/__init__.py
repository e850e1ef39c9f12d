"""Renditions served over HTTP, for any Python site."""

from young_prism.serving.middleware import Renditions

__all__ = ["Renditions"]
