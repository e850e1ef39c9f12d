"""Styles of images by class, for pages whose policy forbids `style` attributes (Content Security Policy 3, 6.1.14).

Each style becomes a class whose name follows from it, in one stylesheet for the whole site. What keeps a box is `!important`, since
a `style` attribute would win over the site's rules as well. A blurred placeholder is a `data:` address, which `img-src` must allow.
"""

from __future__ import annotations

import hashlib
import posixpath
import re
from collections.abc import Collection

from young_prism.core.html.rewrite.changes import Edit
from young_prism.core.html.rewrite.context import PageContext
from young_prism.core.html.rewrite.tags import ParsedTag, TagEditor
from young_prism.core.html.rewrite.tokens import Token
from young_prism.core.markup.urls import path_url

STYLESHEET = "young-prism.css"
"""Its name, in the folder of the site."""
_HEADING = "/* Written by young-prism rewrite: the styles of its images, one class each. */\n"
_KEEPS_BOX = re.compile(r"(width: auto|height: auto|aspect-ratio: [^;]+)")
_IMPORTANT = r"\1 !important"


def class_name(css: str) -> str:
    """Return the class that stands for a style."""
    return f"young-prism-{hashlib.sha256(css.encode()).hexdigest()[:8]}"


def class_edits(tags: TagEditor, img: ParsedTag, css: str) -> tuple[list[Edit], list[tuple[str, str]]]:
    """Return the edits that give an image the class of a style, or the attribute to add.

    Args:
        tags: The tags of its page.
        img: Its tag.
        css: The style; empty for none.
    """
    name = class_name(css) if css else ""
    attribute = img.get("class")
    if attribute is None:
        return [], [("class", name)] if name else []
    value = tags.value(attribute)
    if not name or name in value.split():
        return [], []
    if not attribute.quote:
        return [tags.replace_value(attribute, "class", f"{value} {name}".strip())], []
    return [Edit(attribute.value_end, attribute.value_end, f" {name}" if value.strip() else name)], []


def stylesheet_with(text: str, styles: Collection[str]) -> str:
    """Return the stylesheet with a rule for each of these styles; rules that are there stay.

    Args:
        text: The stylesheet as it is; empty for none.
        styles: Styles as a `style` attribute writes them.
    """
    selectors = {f".{class_name(css)}": css for css in styles}
    rules = {
        selector: f"{selector} {{ {_KEEPS_BOX.sub(_IMPORTANT, css)} }}\n"
        for selector, css in selectors.items()
    }
    missing = [rule for selector, rule in sorted(rules.items()) if f"{selector} " not in text]
    return (text or _HEADING) + "".join(missing) if missing else text


def link_edit(context: PageContext, page: Collection[Token], *, from_root: bool) -> Edit | None:
    """Return the edit that links the stylesheet at the end of a page's head.

    None where the page links it already, or has no head, which is listed.

    Args:
        context: The page.
        page: Its tokens.
        from_root: Whether addresses of the page begin with a slash.
    """
    links = (context.tags.read(token).get("href") for token in page if token.name == "link")
    if any(href and context.tags.value(href).rpartition("/")[2] == STYLESHEET for href in links):
        return None
    folder = context.base.folder
    url = f"/{STYLESHEET}" if from_root or folder is None else posixpath.relpath(STYLESHEET, folder or ".")
    tag = f'<link rel="stylesheet" href="{path_url(url)}">'
    head = next((token for token in page if token.kind == "end" and token.name == "head"), None)
    if head is None:
        context.leave(0, "", f"it has no head element; put {tag} into the page that includes it")
        return None
    indent = context.tags.indent(head.start)
    if indent is None:
        return Edit(head.start, head.start, tag)
    return Edit(head.start, head.start, f"  {tag}{context.tags.newline()}{indent}")
