"""Help panels: purpose of a page in three sentences, and the chapter of the documentation to read."""

from typing import NamedTuple


class PageHelp(NamedTuple):
    """The help panel of one page. `chapter` is a page of the documentation, with an anchor where it helps."""

    title: str
    text: str
    chapter: str


HELP = {
    "sources": PageHelp(
        "Sources",
        "A source is a folder of originals, local or uploaded. "
        "Add one, open it, and follow the stops from left to right. "
        "Originals are only read; renditions go into a folder of their own.",
        "tutorial.html",
    ),
    "conversion": PageHelp(
        "Convert",
        "Convert a few images without a source or a recipe. "
        "Choose sizes, formats and a quality, compare each file with its original, and download one or all. "
        "The files are deleted after a day.",
        "how-to/convert-a-few-images.html",
    ),
    "intake": PageHelp(
        "Intake",
        "Intake shows every original with its size, kind and flags. "
        "Filter and select, exclude what you do not need, and read what each flag means for the build. "
        "Nothing here changes a file.",
        "reference/flags.html",
    ),
    "picture": PageHelp(
        "Original",
        "This page has everything about one original: its facts, its shape, its texts and its renditions. "
        "Turn, crop and set a focal point here; the file itself never changes. "
        "The next run applies the changes.",
        "how-to/crop-images.html",
    ),
    "recipe": PageHelp(
        "Recipe",
        "The recipe decides widths, names, formats and quality for the whole source. "
        "Change a value and see at once what the plan becomes. "
        "Nothing is created before the next run.",
        "recipe.html",
    ),
    "library": PageHelp(
        "Saved recipes",
        "Saved recipes are shared by all sources and by uploads. "
        "Duplicate, compare, import and export them here. "
        "A source keeps its own copy until you apply a saved recipe again.",
        "recipe.html",
    ),
    "proof": PageHelp(
        "Proof",
        "Proof compares candidates of one original with the original itself. "
        "Lower the quality until you see the damage, then step back, and use the result for this original, its folder or its "
        "kind. "
        "Hold F to see the original.",
        "how-to/choose-a-quality.html",
    ),
    "run": PageHelp(
        "Run",
        "A run creates the renditions that the plan lists and the output folder lacks. "
        "Pause, stop and continue it at any time; finished renditions are kept. "
        "The report counts what was made, reused, kept, skipped and failed.",
        "runs.html",
    ),
    "handoff": PageHelp(
        "Hand-off",
        "Hand-off brings renditions to visitors: as snippets, in rewritten pages, as a zip, in a folder or in S3 storage. "
        "Preview every change before you apply it. "
        "Rewritten pages are backed up and can be restored.",
        "hand-off.html",
    ),
    "desk": PageHelp(
        "Desk",
        "Desk is for editors: upload an image, describe it, copy its markup. "
        "The recipe of the source decides everything else. "
        "Replace, withdraw and undo at any time; the original is kept.",
        "desk.html",
    ),
    "access": PageHelp(
        "Access",
        "Tokens let other programs use the upload API, each with its own permissions. "
        "Webhooks tell other programs when an upload is done. "
        "A token is shown once; only its hash is stored.",
        "upload-api.html",
    ),
    "api": PageHelp(
        "Upload API",
        "This page lists every operation of the API with its parameters and answers. "
        "Each request needs a token from Access. "
        "Errors name the problem and the remedy.",
        "upload-api.html",
    ),
}
"""Name of a blueprint -> its help."""
