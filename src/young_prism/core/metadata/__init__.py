"""Exif, XMP, IPTC and colour profiles: which to keep, and how to embed them."""
