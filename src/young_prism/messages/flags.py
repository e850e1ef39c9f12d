"""Flags of originals: their labels, what was observed, and what the recipe does about it."""

from young_prism.messages.message import Message

LABELS = {
    "place": "Location in metadata",
    "sideways": "Rotated by metadata",
    "far-larger": "Much larger than any rung",
    "photo-as-png": "Photo saved as PNG",
    "graphic-as-jpeg": "Graphic saved as JPEG",
    "compressed-hard": "Heavily compressed",
    "already-modern": "Modern format already",
    "not-srgb": "Colour is not sRGB",
    "cmyk": "CMYK",
    "wrong-ending": "Wrong file extension",
    "web-name": "Name unsuited to the web",
    "collision": "Name collision",
    "duplicate": "Duplicate",
    "video-sized": "Animation as heavy as a video",
    "smaller-than-use": "Smaller than displayed",
    "unused": "Not used by any page",
    "missing": "Missing",
    "unreadable": "Unreadable",
}
"""Label of each flag on the pages, by the name that the command and addresses use."""

UNREADABLE = Message("The file cannot be read.", "It is excluded and reported as failed.")
MODERN_OUTCOME = "Every rendition is made from its decoded pixels."
SIDEWAYS = Message(
    "The pixels are stored rotated; metadata says how to turn them.", "It is turned before anything else."
)
PHOTO_AS_PNG = Message(
    "It is a photo, and PNG stores its noise exactly.", "It is treated as a photo, with JPEG as the fallback."
)
GRAPHIC_AS_JPEG = Message(
    "It is a graphic, and JPEG has blurred its edges.",
    "It is treated as a graphic; a PNG or SVG original would look better.",
)
CMYK = Message("It uses print colours (CMYK).", "It is converted to sRGB through its profile.")
UNUSED = Message(
    "No page or stylesheet that was read uses it.", "It is still built; exclude it if nobody needs it."
)


def location(*, where: str, is_copied: bool) -> Message:
    outcome = "It is copied unchanged, with its metadata." if is_copied else "All metadata is removed."
    return Message(f"Its metadata records where it was taken{where}.", outcome)


def large(*, width: int, widest: int) -> Message:
    return Message(
        f"It is {width:,} px wide; the widest rung is {widest:,} px.", "It is reduced to the rungs."
    )


def pressed(quality: int) -> Message:
    return Message(
        f"It was saved with a JPEG quality of about {quality}.",
        "Its own bytes are kept where they are the smallest file at full size.",
    )


def modern(label: str) -> Message:
    return Message(f"It is already in {label}.", MODERN_OUTCOME)


def not_srgb(*, profile: str, is_wide: bool) -> Message:
    wide = ", with colours beyond sRGB" if is_wide else ""
    return Message(
        f"Its colour profile is “{profile}”{wide}.", "It is converted to sRGB before the profile is removed."
    )


def video(frames: str) -> Message:
    return Message(
        f"{frames[0].upper()}{frames[1:]} weigh as much as a video.",
        "GIFs also become WebP, other animations are copied; a video would be smaller still.",
    )


def small(*, width: int, page: str, displayed: int) -> Message:
    return Message(
        f"It is {width:,} px wide, and {page} asks for {displayed:,} px.",
        "It is never enlarged; a larger original would look sharper.",
    )


def missing(*, pages: str, similar: str | None) -> Message:
    remedy = (
        f"{similar} exists and differs only in case; many servers distinguish the two."
        if similar
        else "Restore the file, or correct the page."
    )
    return Message(f"{pages} refers to this file, which does not exist.", remedy)


def wrong_ending(*, ending: str, label: str) -> Message:
    text = f"The name ends in .{ending}" if ending else "The name has no extension"
    return Message(
        f"{text}, but the content is {label}.", "The content decides; renditions get the right extension."
    )


def web_name(faults: str) -> Message:
    return Message(f"Its name contains {faults}.", "The name is kept, and escaped wherever it is written.")


NAME_FAULTS = {
    "space": "spaces",
    "letters": "non-ASCII letters",
    "capitals": "capital letters",
    "signs": "characters that must be escaped",
    "camera": "only a camera's number",
}


def collision(path: str) -> Message:
    return Message(
        f"Without its extension it has the same name as {path}.",
        "The plan gives both distinct names; nothing is overwritten.",
    )


def exact_copy(path: str) -> Message:
    return Message(f"It is byte for byte equal to {path}.", COPY_OUTCOME)


def similar_copy(path: str) -> Message:
    return Message(
        f"It looks like a smaller or more compressed version of {path}, which is the better original.",
        COPY_OUTCOME,
    )


COPY_OUTCOME = "Both are built; exclude one if you do not need it."
