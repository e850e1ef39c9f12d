"""Headers: what a file says of itself before a pixel is decoded. One module a format, all `read(view) -> Header`.

JPEG, PNG, GIF and WebP, which are most of what a site has, are read by walking their own structure: opening a file
in a codec library costs five times as much, and that decides how long a first look at ten thousand takes. The other
formats are left to their libraries (`library`). What is found agrees with exiftool, Pillow and libvips
(`tests/reference`).
"""
