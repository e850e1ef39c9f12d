"""JPEGs packed into JPEG XL without loss: what it saves and takes, and whether each is restored. `make bench-packing`.

A hundred JPEGs come from the folders that are named, by default from the packages of `bench.efforts`. Each is packed, restored
and compared byte by byte, as a whole file and without its metadata.
"""

from __future__ import annotations

import hashlib
import sys
import tempfile
import time
from pathlib import Path
from statistics import median, quantiles

from bench.efforts import fetched
from young_prism.core.encode import jpeg
from young_prism.core.encode.jxl import pack_jpeg
from young_prism.core.images.headers.contract import BytesView
from young_prism.core.images.headers.jpeg import read
from young_prism.core.images.sniff import sniff
from young_prism.core.pixels.packed_jpeg import unpack_jpeg
from young_prism.core.types import ImageFormat

NUMBER = 100


def main() -> None:
    """Pack, restore, compare, and print the figures."""
    with tempfile.TemporaryDirectory() as temporary:
        folders = [Path(name) for name in sys.argv[1:]] or [fetched(Path(temporary))]
        files = [file for folder in folders for file in sorted(folder.rglob("*")) if file.is_file()]
        jpegs = [data for data in map(Path.read_bytes, files) if sniff(data) is ImageFormat.JPEG]
    jpegs = [jpegs[at * len(jpegs) // NUMBER] for at in range(NUMBER)] if len(jpegs) > NUMBER else jpegs
    saved, seconds, pixels, identical = [], 0.0, 0, 0
    for data in jpegs:
        for source in (data, jpeg.squeeze(data)):
            began = time.process_time()
            packed = pack_jpeg(source)
            seconds += time.process_time() - began
            pixels += read(BytesView(source)).stored.pixels
            identical += hashlib.sha256(unpack_jpeg(packed)).digest() == hashlib.sha256(source).digest()
            if source is data:
                saved.append(1 - len(packed) / len(data))
    tenths = quantiles(saved, n=10)
    print(f"{len(jpegs)} JPEGs, {2 * len(jpegs)} packings: {identical} restored identically")
    print(
        f"saved: median {median(saved):.1%}, nine of ten between {tenths[0]:.1%} and {max(saved):.1%}, "
        f"least {min(saved):.1%}; {seconds / pixels * 1e6:.2f} s of one core for a megapixel"
    )


if __name__ == "__main__":
    main()
