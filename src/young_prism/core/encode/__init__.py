"""One module a format, all with the same signature: `encode(pixels, settings) -> bytes`.

`pixels` is an image in memory, 8-bit sRGB, upright, with alpha only where it is used, and free of metadata.
Every encoder gives the same bytes for the same pixels and settings, in any process.
"""
