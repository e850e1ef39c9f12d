"""Problems of recipes, layouts, watermarks and candidates."""

from young_prism.messages.message import Message

NO_FOLDER = Message(
    "The original is in no folder.", "Apply the choice to its kind, or to this original alone."
)
NO_LAYOUT = Message("The recipe has no layout.", "Add [ladder.layout] with its lines to the recipe.")
NO_VIEWPORTS = Message(
    "The file contains no viewports.", "Write one line for each viewport, such as 390,14.5."
)
NO_VISIBLE_IMAGE = Message(
    "None of these pages shows an image at the given viewports.", "Measure pages that contain images."
)
TOO_LITTLE_DETAIL = Message(
    "The image has too little detail: even its smallest file looks like the original.",
    "Choose an image with more detail.",
)
VIEWPORTS_UNREADABLE = Message(
    "The viewport file cannot be read.", "Check the path and the permissions of the file."
)
WATERMARK_FORMAT = Message("A watermark must be a PNG or an SVG.", "Save it in one of these formats.")
WATERMARK_MISSING = Message(
    "The watermark does not exist.",
    "Put the file into the source folder or the recipe's folder, or correct its name.",
)
WATERMARK_NAME = Message("The name of the watermark contains a NUL character.", "Correct the name.")
WATERMARK_SIZE_MISSING = Message(
    "The watermark declares no size.", "Give its svg element a width and a height."
)
WATERMARK_SIMPLER = "Use a simpler drawing, or save it as PNG."
WATERMARK_TOO_LARGE = Message(
    "The watermark has more than 25 megapixels.", "Save it smaller; 2,000 px are enough."
)


def invalid_layout_file(*, location: str, reason: str | None) -> Message:
    return Message(
        f"The layout file is invalid ({location}: {reason}).",
        "Measure the pages again with young-prism measure.",
    )


def invalid_recipe(problems: str) -> Message:
    return Message(
        f"The recipe is invalid: {problems}.", "See docs/reference/recipe.md for the keys and their values."
    )


def invalid_toml(reason: object) -> Message:
    return Message(f"The recipe is not valid TOML: {reason}.", "Correct the line named here.")


def letter_missing(letter: str) -> Message:
    return Message(
        f"The typeface has no “{letter}”.", "Write the watermark in Latin letters, or draw it as an SVG."
    )


def nothing_to_compare(kind: str) -> Message:
    return Message(f"There is nothing to compare: this is {kind}.", "Give a still raster image.")


def unknown_candidate(name: str) -> Message:
    return Message(
        f"“{name}” is not a candidate.",
        "Use a form such as jxl-70, jxl-lossless, avif-58, webp-75, webp-lossless, webp-near60, jpeg-80, jpeg-80-444, png or png-palette.",
    )


def unknown_start(*, start: str, known: str) -> Message:
    return Message(f"There is no starting recipe “{start}”.", f"Choose one of {known}.")


def viewport_line(number: int) -> Message:
    return Message(f"Line {number} of the viewports is not a width and a share.", "Write it as 390,14.5.")


def watermark_unreadable(reason: str | None) -> Message:
    return Message(
        f"The watermark cannot be read ({reason}).", "Use a readable regular file of at most 20 MB."
    )


def watermark_too_heavy(limit: str) -> Message:
    return Message(f"The watermark is larger than {limit}.", "Save it smaller.")
