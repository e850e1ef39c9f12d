"""Tags of a page as they stand there, and edits that change as little of them as can be: values, attributes, white space."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from html import escape
from typing import NamedTuple

from young_prism.core.html.rewrite.changes import Edit
from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.tokens import (
    Attribute,
    Token,
    attributes,
)
from young_prism.core.markup.picture import Attributes, tag
from young_prism.core.types import Size

ORIGINAL = "data-young-prism-original"
"""The attribute that holds the address that stood there before."""
FORMER_ORIGINAL = "data-original"
"""Its former name, which scripts that load pictures late use as well."""
_NUMBER = re.compile(r"\s*(\d+)")


class ParsedTag(NamedTuple):
    """A start tag with its attributes; `templated` where a template makes some of it."""

    token: Token
    attributes: tuple[Attribute, ...]
    templated: bool

    def get(self, name: str) -> Attribute | None:
        """Return an attribute by its name, the first of several."""
        return next((attribute for attribute in self.attributes if attribute.name == name), None)

    def is_duplicated(self, name: str) -> bool:
        """Whether an attribute is there more than once."""
        return sum(attribute.name == name for attribute in self.attributes) > 1


@dataclass(frozen=True, slots=True)
class TagEditor:
    """The tags of one page."""

    document: Document

    def read(self, token: Token) -> ParsedTag:
        """Return a start tag with its attributes."""
        parsed, templated = attributes(self.document.text, token)
        return ParsedTag(token, tuple(parsed), templated)

    def value(self, attribute: Attribute) -> str:
        """Return what an attribute says, its character references resolved."""
        return self.document.value(self.document.text[attribute.value_start : attribute.value_end])

    def dimensions(self, img: ParsedTag, size: Size) -> list[tuple[str, str]]:
        """Return the missing ones of width and height, by the original's own size.

        None if the picture has both, or one that is no number of pixels.
        """
        width, height = size
        if not size.pixels:
            return []
        names = [name for name in ("width", "height") if img.get(name)]
        if not names:
            return [("width", str(width)), ("height", str(height))]
        if len(names) == 2:
            return []
        [name] = names
        number = self.pixels(img, name)
        if not number:
            return []  # the page's own business
        if name == "width":
            return [("height", str(max(1, round(number * height / width))))]
        return [("width", str(max(1, round(number * width / height))))]

    def set_attributes(self, img: ParsedTag, wanted_values: dict[str, str]) -> list[Edit]:
        """Change the values of attributes that are there."""
        edits = []
        for name, value in wanted_values.items():
            attribute = img.get(name)
            if attribute and self.value(attribute) != value:
                edits.append(self.replace_value(attribute, name, value))
        return edits

    @staticmethod
    def replace_value(attribute: Attribute, name: str, value: str) -> Edit:
        """Return the edit that gives an attribute another value, in the quotes that it has."""
        if attribute.quote == "'":
            return Edit(
                attribute.value_start, attribute.value_end, escape(value, quote=False).replace("'", "&#39;")
            )
        if attribute.quote:
            return Edit(attribute.value_start, attribute.value_end, escape(value))
        return Edit(attribute.start, attribute.end, f'{name}="{escape(value)}"')

    def add_attributes(
        self, img: ParsedTag, added: Sequence[tuple[str, str]], *, remember: bool = False
    ) -> list[Edit]:
        """Put attributes behind `src`: where a template makes that one optional, they are so with it.

        To `remember` is to keep the address that stands there, character for character.
        """
        source = img.get("src") or img.attributes[-1]
        text = self.written(dict(added)) + (self.remembered(source) if remember else "")
        return [Edit(source.end, source.end, text)] if text else []

    @staticmethod
    def written(added: Mapping[str, str]) -> str:
        """Return attributes as text, each with a space before it."""
        return "".join(f' {name}="{escape(value)}"' for name, value in added.items())

    def remembered(self, attribute: Attribute) -> str:
        """Return the attribute, with a space before it, that keeps the value of another one as it stands."""
        raw = self.document.text[attribute.value_start : attribute.value_end].replace('"', "&quot;")
        return f' {ORIGINAL}="{raw}"'

    def render_sources(self, img: ParsedTag, sources: Sequence[Attributes]) -> list[str]:
        """Return tags that end as the page's own do."""
        closed = self.document.text[img.token.start : img.token.end].endswith("/>")
        return [tag("source", attributes)[:-1] + (" />" if closed else ">") for attributes in sources]

    def skip_whitespace(self, at: int) -> int:
        """Return where the white space that begins here ends."""
        match = re.compile(r"\s*").match(self.document.text, at)
        return match.end() if match else at

    def indent(self, at: int) -> str | None:
        """Return the white space before a tag that begins its line; None where something else stands before it."""
        start = self.document.text.rfind("\n", 0, at) + 1
        before = self.document.text[start:at]
        return before if not before.strip() else None

    def newline(self) -> str:
        """Return the line end of the page."""
        return self.document.newline

    def _alone(self, token: Token) -> str | None:
        """Return a tag's indent where it has its lines to itself: only there may white space be added next to it."""
        indent = self.indent(token.start)
        if indent is None:
            return None
        end = self.document.text.find("\n", token.end)
        after = self.document.text[token.end : end if end >= 0 else None]
        return None if after.strip() else indent

    def insert_before(self, img: ParsedTag, written: Sequence[str]) -> str:
        """Return tags to be put before an `img`, as its line is indented."""
        indent = self.indent(img.token.start)
        joint = "" if indent is None else self.newline() + indent
        return "".join(source + joint for source in written)

    def wrap(self, img: ParsedTag, written: Sequence[str]) -> list[Edit]:
        """Put a `picture` with sources round an `img`."""
        indent = self._alone(img.token)
        if indent is None:
            before, after = "<picture>" + "".join(written), "</picture>"
        else:
            joint = self.newline() + indent
            step = "\t" if indent.endswith("\t") else "  "
            before = "<picture>" + "".join(f"{joint}{step}{source}" for source in written) + joint + step
            after = f"{joint}</picture>"
        return [
            Edit(img.token.start, img.token.start, before),
            Edit(img.token.end, img.token.end, after),
        ]

    def kind_of(self, source: ParsedTag) -> tuple[str, str]:
        """Return the media condition and the type of a source."""
        media, kind = source.get("media"), source.get("type")
        return (self.value(media) if media else "", self.value(kind) if kind else "")

    def pixels(self, of: ParsedTag, name: str) -> int | None:
        """Return an attribute's number of pixels, None where it has none: a percentage, or what a template makes."""
        attribute = of.get(name)
        match = _NUMBER.fullmatch(self.value(attribute).removesuffix("px")) if attribute else None
        return int(match[1]) if match else None
