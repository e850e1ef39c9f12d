"""Problems of pages: snippets, rewriting and browsers."""

from young_prism.messages.message import Message

NOTHING_TO_UNDO = Message(
    "There is no rewrite to undo.", "Nothing was rewritten here, or every rewrite was undone."
)
NOT_TEXT = Message("The page is not text: it contains zero bytes.", "Check the file.")
NOT_UTF_16 = Message("The page starts as UTF-16 but is not valid UTF-16.", "Save it again as UTF-8.")
NO_PAGE_MATCHES = Message(
    "No page or stylesheet of the site matches this pattern.",
    "Give paths below the folder of the site, such as blog/ or *.css.",
)
NO_SUCH_ORIGINAL = Message("The source has no such original.", "Give its path below the source folder.")
RECORD_DAMAGED = Message(
    "The record of this rewrite is damaged, or names paths outside the site.",
    "Nothing was changed. The old pages are in the same folder; copy them back by hand.",
)
RENDITIONS_OUTSIDE_SITE = Message(
    "The renditions are outside the site, and no address is given for them.",
    "Give --prefix, or set it in the recipe under [markup].",
)
SOURCE_OUTSIDE_SITE = Message(
    "The source is outside this folder, so its pages cannot refer to it.",
    "Give the folder of the site with --pages.",
)
TOO_MANY_REWRITES = Message("Too many rewrites started within this second.", "Try again.")


def chromium_does_not_start(*, reason: str, variable: str) -> Message:
    return Message(
        f"Chromium does not start ({reason}).",
        f"Start it once by hand with --headless, or set another one in {variable}.",
    )


def page_check_failed(kind: str) -> Message:
    return Message(f"The check ended with an unexpected error ({kind}).", "See the log of the server.")


def page_out_of_time(seconds: float) -> Message:
    return Message(
        f"The page was not done within {seconds:.0f} s and was closed.", "Look for a script that never ends."
    )


def encoding_not_rewritten(encoding: str) -> Message:
    return Message(f"Pages in the encoding {encoding} are not rewritten.", "Save the page as UTF-8.")


def facet_not_built(*, original: str, facet: str) -> Message:
    return Message(
        f"{original} has no renditions of the facet “{facet}”.",
        "Add [[facets]] with this name to the recipe, then build again.",
    )


def no_rendition(cut: str) -> Message:
    return Message(
        f"There is no rendition of this original{cut}.",
        "Build first, and give the path below the source folder.",
    )


def not_in_manifest(original: str) -> Message:
    return Message(
        f"The manifest has no original “{original}”.", "Give its path as young-prism look prints it."
    )


def build_failed(output: str) -> Message:
    return Message("The renditions could not be built.", output or "Build by hand with young-prism build.")
