"""A mark on a picture: sized by the picture, placed by a grid of nine or tiled, blended in the picture's own colours."""

from __future__ import annotations

from collections.abc import Iterator

from young_prism.core.errors import DamagedError, TooLargeError
from young_prism.core.images.headers.contract import BytesView
from young_prism.core.images.sniff import HEAD_BYTES, sniff
from young_prism.core.inspection.inspect import read_header
from young_prism.core.metadata.embed import metadata_of, with_metadata
from young_prism.core.pixels.decode import damaged, open_image
from young_prism.core.pixels.shape import resized, to_srgb, without_metadata
from young_prism.core.pixels.vector import draw_vector
from young_prism.core.recipe.finishing import Watermark
from young_prism.core.types import MAX_ANALYSIS_PIXELS, ImageFormat, Size
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage
from young_prism.messages.recipes import WATERMARK_FORMAT, WATERMARK_SIZE_MISSING, WATERMARK_TOO_LARGE


def watermark_size(data: bytes) -> Size:
    """Return the size of a watermark's file. Raises `DamagedError` for what is neither PNG nor SVG."""
    fmt = sniff(data[:HEAD_BYTES])
    if fmt not in (ImageFormat.PNG, ImageFormat.SVG):
        raise DamagedError.of(WATERMARK_FORMAT)
    size = read_header(BytesView(data), fmt).stored
    if not size.pixels:
        raise DamagedError.of(WATERMARK_SIZE_MISSING)
    return size


def draw_mark(data: bytes) -> VipsImage:
    """Return a watermark's file as pixels at its own size, RGB with alpha.

    Raises:
        DamagedError: It cannot be read.
        TooLargeError: It has more than 25 megapixels.
    """
    size = watermark_size(data)
    if size.pixels > MAX_ANALYSIS_PIXELS:
        raise TooLargeError.of(WATERMARK_TOO_LARGE)
    try:
        return _mark(data, size, b"").copy_memory()
    except pyvips.Error as error:
        raise damaged(error) from error


def watermark_position(picture: Size, mark: Size, settings: Watermark) -> tuple[Size, list[tuple[int, int]]]:
    """Return the size of the mark on a picture, and the left and top of each place where it stands.

    It is `size` of the picture's width, or less where it would not fit between the margins. In the middle x is
    W/2 - w/2 and y is H/2 - h/2, rounded down (common practice, no source).
    """
    margin = round(settings.margin * min(picture))
    room = Size(max(1, picture.width - 2 * margin), max(1, picture.height - 2 * margin))
    drawn = mark.at_width(max(1, round(settings.size * picture.width)))
    fits = drawn.width <= room.width and drawn.height <= room.height
    size = drawn if fits else mark.inside(Size(min(drawn.width, room.width), room.height))
    if settings.position == "tiled":
        return size, list(_tiles(picture, size, margin))
    across = {"left": margin, "right": picture.width - size.width - margin}
    down = {"top": margin, "bottom": picture.height - size.height - margin}
    words = settings.position.split("-")
    left = next((across[word] for word in words if word in across), (picture.width - size.width) // 2)
    top = next((down[word] for word in words if word in down), (picture.height - size.height) // 2)
    return size, [(left, top)]


def _tiles(picture: Size, size: Size, margin: int) -> Iterator[tuple[int, int]]:
    """Yield places in rows from the top left, every other row half a step to the right, up to the edges and over them."""
    gap = max(margin, size.height // 2, 1)
    for row, top in enumerate(range(gap // 2, picture.height, size.height + gap)):
        step = size.width + gap
        yield from (
            (left, top) for left in range(gap // 2 - (step // 2 if row % 2 else 0), picture.width, step)
        )


def with_watermark(pixels: VipsImage, data: bytes, settings: Watermark) -> VipsImage:
    """Return the pixels of a rung with the mark on them. Raises `DamagedError` where the mark cannot be read."""
    carried = metadata_of(pixels)
    picture = Size(pixels.width, pixels.height)
    size, positions = watermark_position(picture, watermark_size(data), settings)
    try:
        mark = _mark(data, size, carried.profile)
        alpha = (mark[3] * settings.opacity).cast("uchar", shift=False)
        layer = _layer(mark[:3].bandjoin(alpha), picture, positions)
        # Both in the same space and over each other as CSS does it, alpha not premultiplied.
        under = without_metadata(pixels).copy(interpretation="srgb")
        over = under.composite2(layer, "over", compositing_space="srgb")
        if not pixels.hasalpha():
            over = over[:3]
        return with_metadata(over.cast("uchar").copy_memory(), carried)
    except pyvips.Error as error:
        raise damaged(error) from error


def _mark(data: bytes, size: Size, profile: bytes) -> VipsImage:
    """Return the mark at its size, RGB with alpha, in sRGB or in the space of the picture's profile."""
    if sniff(data[:HEAD_BYTES]) is ImageFormat.SVG:
        image = draw_vector(data, size)
    else:
        image = open_image(data, ImageFormat.PNG).copy_memory()
    image = to_srgb(image, cmyk=False)
    if image.bands < 3:  # grey, perhaps with alpha
        alpha = image[1:] if image.hasalpha() else None
        image = image[0].bandjoin([image[0], image[0]])
        image = image.bandjoin(alpha) if alpha else image
    if not image.hasalpha():
        image = image.bandjoin(255)
    image = resized(image.copy(interpretation="srgb"), size)
    return in_space(image, profile)


def in_space(image: VipsImage, profile: bytes) -> VipsImage:
    """Convert 8-bit sRGB to the space of an RGB profile, alpha left as it is; without a profile nothing changes."""
    if not profile:
        return image
    # libvips takes an output profile from the image's own field only through a file; LittleCMS through Pillow does.
    import io

    from PIL import Image, ImageCms

    target = ImageCms.ImageCmsProfile(io.BytesIO(profile))
    colour = Image.fromarray(image[:3].numpy())
    done = ImageCms.profileToProfile(colour, ImageCms.createProfile("sRGB"), target) or colour
    converted: VipsImage = pyvips.Image.new_from_memory(done.tobytes(), image.width, image.height, 3, "uchar")
    converted = converted.copy(interpretation="srgb")
    return converted.bandjoin(image[3]) if image.hasalpha() else converted


def _layer(mark: VipsImage, picture: Size, positions: list[tuple[int, int]]) -> VipsImage:
    """Return a clear layer as large as the picture with the mark at each place."""
    layer: VipsImage = pyvips.Image.black(picture.width, picture.height, bands=4).copy(interpretation="srgb")
    for left, top in positions:
        layer = layer.insert(mark, left, top)
    return layer.copy_memory().copy(interpretation="srgb")
