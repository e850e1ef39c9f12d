"""Drawings as geometry: figures in, coordinates out; the templates turn them into SVG."""
