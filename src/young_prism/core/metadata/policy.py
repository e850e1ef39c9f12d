"""Which metadata a rendition keeps, by the recipe's rule.

*Rights*: author, copyright, credit and licence, from whichever of the three blocks names them (Exif: CIPA DC-008, 4.6.4
and 4.6.5; XMP: ISO 16684-1, Dublin Core and rights management; IPTC-IIM 4.2, record 2). *All but place* leaves out
positions and names of places, and the maker's own note, in which both may hide. Orientation was applied to the pixels.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Literal
from xml.etree.ElementTree import Element, ParseError, tostring

from defusedxml.common import DefusedXmlException
from defusedxml.ElementTree import fromstring

from young_prism.core.images.headers.contract import Header
from young_prism.core.metadata.embed import EmbeddedMetadata

Policy = Literal["none", "rights", "all-but-place", "all"]

_ORIENTATION, _GPS, _MAKER_NOTE, _CAMERA_DIRECTORY = 0x0112, 0x8825, 0x927C, 0x8769
_RIGHTS_TAGS = (0x013B, 0x8298)
_RDF = "{http://www.w3.org/1999/02/22-rdf-syntax-ns#}"
_PREFIXES = {
    "x": "adobe:ns:meta/",
    "rdf": _RDF.strip("{}"),
    "dc": "http://purl.org/dc/elements/1.1/",
    "xmp": "http://ns.adobe.com/xap/1.0/",
    "xmpRights": "http://ns.adobe.com/xap/1.0/rights/",
    "Iptc4xmpCore": "http://iptc.org/std/Iptc4xmpCore/1.0/xmlns/",
    "Iptc4xmpExt": "http://iptc.org/std/Iptc4xmpExt/2008-02-29/",
    "exif": "http://ns.adobe.com/exif/1.0/",
    "tiff": "http://ns.adobe.com/tiff/1.0/",
    "cc": "http://creativecommons.org/ns#",
    "plus": "http://ns.useplus.org/ldf/xmp/1.0/",
    "xml": "http://www.w3.org/XML/1998/namespace",
    "html": "http://www.w3.org/1999/xhtml",
    "xs": "http://www.w3.org/2001/XMLSchema",
    "xsi": "http://www.w3.org/2001/XMLSchema-instance",
}
_DC, _XMP_RIGHTS, _CC = (f"{{{_PREFIXES[prefix]}}}" for prefix in ("dc", "xmpRights", "cc"))
_XMP_ROOT = re.compile(rb"<(?:\w+:)?(?:xmpmeta|RDF)\b")
_XMP_ROOT_END = re.compile(rb"</(?:\w+:)?(?:xmpmeta|RDF)>")
_RIGHTS_PROPERTY = re.compile(
    rf"{re.escape(_DC)}(?:creator|rights)|{re.escape(_XMP_RIGHTS)}.*|{re.escape(_CC)}(?:license|attribution\w*)"
    r"|\{[^}]*\}(?:Credit|CopyrightNotice|Creator|LicensorURL|Licensor|WebStatement)"
)
_PLACE_PROPERTY = re.compile(
    r"\{[^}]*\}(?:GPS\w*|City|Country|CountryCode|CountryName|State|ProvinceState|Sublocation|Location\w*|WorldRegion)"
)
_TURNED_PROPERTY = re.compile(r"\{http://ns\.adobe\.com/tiff/1\.0/\}Orientation")
_RESOURCES = bytes.fromhex("50686f746f73686f7020332e3000")
"""What an APP13 segment of image resources begins with; number 0x0404 is the IPTC record (common practice, no source)."""
_RIGHTS_DATASETS = frozenset({80, 85, 110, 115, 116})
_PLACE_DATASETS = frozenset({26, 27, 90, 92, 95, 100, 101})


def filter_metadata(header: Header, policy: Policy) -> EmbeddedMetadata:
    """Return the blocks of an original's header that its renditions keep.

    Args:
        header: What the original's header holds.
        policy: The recipe's rule for metadata.

    Returns:
        The blocks, each empty where nothing is kept. A block that cannot be parsed is left out.
    """
    if policy == "none":
        return EmbeddedMetadata()
    return EmbeddedMetadata(
        exif=_exif(header.exif, policy), xmp=_xmp(header.xmp, policy), iptc=_iptc(header.iptc, policy)
    )


def orientation_exif(orientation: int) -> bytes:
    """Return an Exif block that says nothing but how to turn the picture (tag 0x0112)."""
    from PIL.Image import Exif

    exif = Exif()
    exif[_ORIENTATION] = orientation
    return bytes(exif.tobytes()).removeprefix(b"Exif\0\0")


def _exif(block: bytes, policy: Policy) -> bytes:
    from PIL.Image import Exif

    if not block:
        return b""
    exif = Exif()
    try:
        exif.load(block)
        if policy == "rights":
            only = Exif()
            for tag in _RIGHTS_TAGS:
                if exif.get(tag):
                    only[tag] = exif[tag]
            return bytes(only.tobytes()).removeprefix(b"Exif\0\0") if len(only) else b""
        exif.get_ifd(_CAMERA_DIRECTORY)  # read before it is written
        exif.get_ifd(_GPS)
        if policy == "all-but-place":
            exif.get_ifd(_CAMERA_DIRECTORY).pop(_MAKER_NOTE, None)
            exif.pop(_GPS, None)
            exif._ifds.pop(_GPS, None)  # noqa: SLF001  (Pillow writes what it has read)
        if _ORIENTATION in exif:
            exif[_ORIENTATION] = 1
        return bytes(exif.tobytes()).removeprefix(b"Exif\0\0")
    except Exception:  # noqa: BLE001  (crooked blocks raise anything: struct, key and type errors)
        return b""


def _xmp(block: bytes, policy: Policy) -> bytes:
    if not block:
        return b""
    # Two searches instead of one from tag to tag, whose time would grow with the square of the block.
    begin = _XMP_ROOT.search(block)
    ends = [match.end() for match in _XMP_ROOT_END.finditer(block)]
    if not begin or not ends:
        return b""
    try:
        root: Element = fromstring(block[begin.start() : ends[-1]])
    except (ParseError, ValueError, DefusedXmlException):
        return b""
    _filter(root, _is_kept(policy))
    if not any(_properties(root)):
        return b""
    _use_prefixes(root)
    text: bytes = tostring(root, encoding="utf-8", xml_declaration=False)
    return b'<?xpacket begin="\xef\xbb\xbf" id="W5M0MpCehiHzreSzNTczkc9d"?>' + text + b'<?xpacket end="r"?>'


def _use_prefixes(root: Element) -> None:
    """Give every name its usual prefix, declared at the root.

    `ElementTree` would take the prefixes from a table of the process, which whatever ran before may have filled.
    """
    prefixes = {uri: prefix for prefix, uri in _PREFIXES.items()}
    declared: dict[str, str] = {}

    def prefixed(name: str) -> str:
        uri, _, local = name[1:].partition("}") if name.startswith("{") else ("", "", name)
        if not uri:
            return name
        prefix = declared.get(uri) or prefixes.get(uri) or f"ns{len(declared)}"
        if prefix != "xml":
            declared[uri] = prefix
        return f"{prefix}:{local}"

    for element in root.iter():
        element.tag = prefixed(element.tag)
        attributes = {prefixed(key): value for key, value in element.attrib.items()}
        element.attrib.clear()
        element.attrib.update(attributes)
    names = sorted((prefix, uri) for uri, prefix in declared.items())
    root.attrib = {**{f"xmlns:{prefix}": uri for prefix, uri in names}, **root.attrib}


def _is_kept(policy: Policy) -> Callable[[str], bool]:
    if policy == "rights":
        return lambda name: bool(_RIGHTS_PROPERTY.fullmatch(name))
    if policy == "all-but-place":
        return lambda name: not (_PLACE_PROPERTY.fullmatch(name) or _TURNED_PROPERTY.fullmatch(name))
    return lambda name: not _TURNED_PROPERTY.fullmatch(name)


def _descriptions(root: Element) -> Iterator[Element]:
    """Yield the top descriptions, whose attributes and elements are the packet's properties."""
    rdf = root if root.tag == f"{_RDF}RDF" else root.find(f".//{_RDF}RDF")
    yield from rdf.findall(f"{_RDF}Description") if rdf is not None else ()


def _properties(root: Element) -> Iterator[str]:
    for description in _descriptions(root):
        yield from (key for key in description.attrib if not key.startswith(_RDF))
        yield from (child.tag for child in description)


def _filter(root: Element, is_kept: Callable[[str], bool]) -> None:
    for description in _descriptions(root):
        for key in [key for key in description.attrib if not key.startswith(_RDF) and not is_kept(key)]:
            del description.attrib[key]
        for child in [child for child in description if not is_kept(child.tag)]:
            description.remove(child)
        if not is_kept("{}City"):
            for child in description:
                _without_places(child)


def _without_places(element: Element) -> None:
    """Take places out of structures too, such as where something is shown."""
    for key in [key for key in element.attrib if _PLACE_PROPERTY.fullmatch(key)]:
        del element.attrib[key]
    for child in list(element):
        if _PLACE_PROPERTY.fullmatch(str(child.tag)):
            element.remove(child)
        else:
            _without_places(child)


def _iptc(block: bytes, policy: Policy) -> bytes:
    """Return the datasets that stay (IIM 4.2, chapter 1), as the image resource that JPEG holds them in."""
    datasets = []
    for record, number, value in _datasets(block):
        if (
            policy == "rights"
            and (record, number) != (1, 90)
            and not (record == 2 and number in _RIGHTS_DATASETS)
        ):
            continue
        if policy == "all-but-place" and record == 2 and number in _PLACE_DATASETS:
            continue
        datasets.append(bytes([0x1C, record, number]) + len(value).to_bytes(2, "big") + value)
    if not any(entry[1] == 2 for entry in datasets):
        return b""
    body = b"".join(datasets)
    padded = body + b"\0" * (len(body) % 2)
    return _RESOURCES + b"8BIM\x04\x04\0\0" + len(body).to_bytes(4, "big") + padded


def _datasets(block: bytes) -> Iterator[tuple[int, int, bytes]]:
    """Yield record, number and value of each dataset (IIM 4.2, 1.5)."""
    starts = [at for at in (block.find(b"\x1c\x01"), block.find(b"\x1c\x02")) if at >= 0]
    at = min(starts, default=len(block))
    while at + 5 <= len(block) and block[at] == 0x1C:
        length = int.from_bytes(block[at + 3 : at + 5], "big")
        if length & 0x8000:
            return  # extended: pictures inside metadata, nothing that a page needs
        yield block[at + 1], block[at + 2], block[at + 5 : at + 5 + length]
        at += 5 + length
