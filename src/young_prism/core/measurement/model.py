"""The layout file: the boxes of the images of a site's pages, as a browser laid them out.

It is JSON, small enough to be committed. All lengths are CSS pixels.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from young_prism.core.errors import LayoutFileError
from young_prism.messages.recipes import invalid_layout_file

LAYOUT_FILE = "young-prism-layout.json"
"""The usual name of the file."""
_MOST = 100_000


class _Measured(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class BrowserViewport(_Measured):
    """A screen that pages are opened on: width and height of the viewport, and device pixels a CSS pixel."""

    width: Annotated[int, Field(ge=1, le=_MOST)]
    height: Annotated[int, Field(ge=1, le=_MOST)]
    density: Annotated[float, Field(gt=0, le=8)] = 1.0

    @property
    def name(self) -> str:
        """As it is written on the command line: 390x844@3."""
        return f"{self.width}x{self.height}@{self.density:g}"


Length = Annotated[float, Field(ge=0, le=_MOST * 100)]


class ImageBox(_Measured):
    """The box of an image in a viewport of some width; both sides are 0 where the image is not shown."""

    viewport: Annotated[int, Field(ge=1, le=_MOST)]
    width: Length
    height: Length


class ImageLoad(_Measured):
    """What a browser did with an image when it opened the page on one screen.

    Attributes:
        viewport: The screen, by its name.
        fetched: The file, as a path below the site or as an address elsewhere; empty for none.
        in_first_view: Whether the image is within the viewport before anybody scrolls.
        is_largest: Whether it is the largest contentful paint.
    """

    viewport: str
    fetched: str = ""
    in_first_view: bool = False
    is_largest: bool = False


class MeasuredImage(_Measured):
    """One image of a page.

    Attributes:
        image: The file that the page names for it, as a path below the site.
        natural_width: The natural width of the file that was shown, in CSS pixels.
        natural_height: The natural height.
        object_fit: The computed `object-fit`.
        loading: The `loading` attribute; empty for none.
        is_broken: Whether it could not be loaded; its boxes say nothing then.
        boxes: Its box by the width of the viewport, ascending.
        loads: What was fetched, screen by screen.
    """

    image: str
    natural_width: Length = 0
    natural_height: Length = 0
    object_fit: str = "fill"
    loading: str = ""
    is_broken: bool = False
    boxes: tuple[ImageBox, ...] = ()
    loads: tuple[ImageLoad, ...] = ()

    @property
    def is_shown(self) -> bool:
        """Whether any viewport shows it."""
        return not self.is_broken and any(box.width > 0 and box.height > 0 for box in self.boxes)

    @property
    def is_largest(self) -> bool:
        """Whether it is the largest contentful paint of any screen."""
        return any(load.is_largest for load in self.loads)

    @property
    def is_in_first_view(self) -> bool:
        """Whether any screen shows it before anybody scrolls."""
        return any(load.in_first_view for load in self.loads)


class MeasuredPage(_Measured):
    """One page: its path below the site, its images in the order of the document, and its layout shift by screen.

    Layout shift (Layout Instability, 2.2) is the sum while pictures arrive, after the first layout, and while the page is scrolled
    to its end.
    """

    page: str
    images: tuple[MeasuredImage, ...] = ()
    layout_shift: dict[str, float] = Field(default_factory=dict)


class MeasuredLayout(_Measured):
    """All pages that were measured, and the screens that they were opened on."""

    kind: Literal["young-prism layout"] = "young-prism layout"
    version: Literal[1] = 1
    viewports: tuple[BrowserViewport, ...]
    pages: tuple[MeasuredPage, ...] = ()

    def to_json(self) -> str:
        """Return the text of the layout file: one line for each image, so that a diff says which one changed."""
        lines = ["{", f' "kind": "{self.kind}", "version": {self.version},']
        viewports = ", ".join(viewport.model_dump_json() for viewport in self.viewports)
        lines.append(f' "viewports": [{viewports}],')
        lines.append(' "pages": [')
        for page in self.pages:
            head = MeasuredPage(page=page.page, layout_shift=page.layout_shift)
            opening = head.model_dump_json(exclude={"images"})
            images = ",\n   ".join(image.model_dump_json(exclude_defaults=True) for image in page.images)
            end = "" if page is self.pages[-1] else ","
            lines.append(f'  {opening[:-1]}, "images": [\n   {images}\n  ]}}{end}')
        return "\n".join([*lines, " ]", "}", ""])


def read_layout(text: str, *, file: str = "") -> MeasuredLayout:
    """Read a layout file. Raises `LayoutFileError` naming the place that cannot be used."""
    try:
        return MeasuredLayout.model_validate_json(text)
    except ValidationError as error:
        problem = error.errors()[0]
        where = ".".join(str(part) for part in problem["loc"]) or "the file"
        raise LayoutFileError.of(
            invalid_layout_file(location=where, reason=f"{problem['msg'][0].lower()}{problem['msg'][1:]}"),
            file=file,
        ) from error
