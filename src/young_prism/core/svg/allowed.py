"""The elements, attributes, CSS properties and CSS functions that a drawing may hold.

Taken from the indexes of SVG 2 (element and attribute indexes, appendix on properties), Filter Effects 1, Masking 1,
SVG Animations 2 and the CSS modules for colour, transforms, fonts, text, animation and transition (from memory). Left out on
purpose: whatever runs a script, embeds a document, or loads something by an address of its own.
"""

from __future__ import annotations

SVG_NAMESPACE = "http://www.w3.org/2000/svg"
XLINK_NAMESPACE = "http://www.w3.org/1999/xlink"
XML_NAMESPACE = "http://www.w3.org/XML/1998/namespace"


def _words(text: str) -> frozenset[str]:
    return frozenset(text.split())


ANIMATIONS = _words("animate animateMotion animateTransform set")

ELEMENTS = ANIMATIONS | _words(
    """a circle clipPath defs desc ellipse feBlend feColorMatrix feComponentTransfer feComposite feConvolveMatrix
    feDiffuseLighting feDisplacementMap feDistantLight feDropShadow feFlood feFuncA feFuncB feFuncG feFuncR feGaussianBlur
    feImage feMerge feMergeNode feMorphology feOffset fePointLight feSpecularLighting feSpotLight feTile feTurbulence filter g
    image line linearGradient marker mask mpath path pattern polygon polyline radialGradient rect stop style svg switch symbol
    text textPath title tref tspan use view"""
)

TEXT_ONLY = _words("title desc style")
"""Elements whose children are dropped: their text is all that counts."""

HARMLESS_ELEMENTS = _words(
    "metadata font font-face glyph missing-glyph hkern vkern altGlyph color-profile hatch hatchpath mesh meshgradient meshrow meshpatch solidcolor solidColor flowRoot flowRegion flowPara flowSpan cursor discard"
)
"""SVG elements that are dropped without being called a danger: browsers ignore them."""

RASTER_ADDRESSED = _words("image feImage")
"""Elements whose `href` may hold picture data."""

PRESENTATION = _words(
    """alignment-baseline baseline-shift clip clip-path clip-rule color color-interpolation color-interpolation-filters
    color-rendering cursor direction display dominant-baseline enable-background fill fill-opacity fill-rule filter flood-color
    flood-opacity font font-family font-size font-size-adjust font-stretch font-style font-variant font-weight
    glyph-orientation-horizontal glyph-orientation-vertical image-rendering isolation kerning letter-spacing lighting-color
    marker marker-end marker-mid marker-start mask mask-type mix-blend-mode opacity overflow paint-order pointer-events
    shape-rendering stop-color stop-opacity stroke stroke-dasharray stroke-dashoffset stroke-linecap stroke-linejoin
    stroke-miterlimit stroke-opacity stroke-width text-anchor text-decoration text-overflow text-rendering transform
    transform-box transform-origin unicode-bidi vector-effect visibility white-space word-spacing writing-mode"""
)

ATTRIBUTES = PRESENTATION | _words(
    """accumulate additive amplitude attributeName attributeType azimuth baseFrequency begin bias by calcMode class clipPathUnits
    contentScriptType contentStyleType crossorigin cx cy d diffuseConstant divisor dur dx dy edgeMode elevation end exponent fill
    filterRes filterUnits fr from fx fy gradientTransform gradientUnits height id in in2 intercept k1 k2 k3 k4
    kernelMatrix kernelUnitLength keyPoints keySplines keyTimes lang lengthAdjust limitingConeAngle markerHeight markerUnits
    markerWidth maskContentUnits maskUnits max media method min mode name numOctaves offset operator order orient origin
    overflow path pathLength patternContentUnits patternTransform patternUnits points pointsAtX pointsAtY pointsAtZ
    preserveAlpha preserveAspectRatio primitiveUnits r radius refX refY rel repeatCount repeatDur requiredFeatures restart
    result role rotate rx ry scale seed side spacing specularConstant specularExponent spreadMethod startOffset stdDeviation
    stitchTiles surfaceScale systemLanguage tabindex tableValues target targetX targetY text textLength title to transform
    type values version viewBox viewTarget width x x1 x2 xChannelSelector y y1 y2 yChannelSelector z zoomAndPan"""
)
ATTRIBUTE_PREFIXES = ("data-", "aria-")
XML_ATTRIBUTES = _words("space lang")
XLINK_ATTRIBUTES = _words("title type role show actuate")

PROPERTIES = PRESENTATION | _words(
    """animation animation-delay animation-direction animation-duration animation-fill-mode animation-iteration-count
    animation-name animation-play-state animation-timing-function animation-composition backdrop-filter backface-visibility
    background background-color background-blend-mode background-clip background-image background-origin background-position
    background-repeat background-size block-size border border-color border-radius border-style border-width bottom box-shadow
    box-sizing clip-rule color-adjust color-scheme content contain cx cy d fill font-display font-feature-settings font-kerning
    font-language-override font-optical-sizing font-palette font-synthesis font-variant-alternates font-variant-caps
    font-variant-east-asian font-variant-ligatures font-variant-numeric font-variant-position font-variation-settings height
    hyphens inline-size inset inset-inline left line-height margin margin-bottom margin-left margin-right margin-top
    mask-border-mode mask-clip mask-composite mask-image mask-mode mask-origin mask-position mask-repeat mask-size max-height
    max-width min-height min-width offset offset-anchor offset-distance offset-path offset-position offset-rotate object-fit
    object-position order outline overflow-wrap overflow-x overflow-y padding padding-bottom padding-left padding-right
    padding-top perspective perspective-origin position quotes r right rotate rx ry scale shape-inside shape-margin
    shape-outside shape-padding shape-subtract solid-color solid-opacity src tab-size text-align text-align-all text-align-last
    text-combine-upright text-decoration-color text-decoration-fill text-decoration-line text-decoration-stroke
    text-decoration-style text-decoration-thickness text-emphasis text-indent text-justify text-orientation text-shadow
    text-transform text-underline-offset text-underline-position top touch-action transform-style transition
    transition-delay transition-duration transition-property transition-timing-function translate unicode-range user-select
    vertical-align width will-change word-break word-wrap x y z-index zoom -webkit-animation -webkit-filter
    -webkit-font-smoothing -webkit-mask -webkit-text-stroke -webkit-transform -webkit-transform-origin -webkit-transition
    -webkit-user-select -moz-osx-font-smoothing -moz-user-select -ms-user-select"""
)
"""`src` is that of `@font-face`; like every property here it is checked for addresses."""

FUNCTIONS = _words(
    """rgb rgba hsl hsla hwb lab lch oklab oklch color color-mix light-dark calc min max clamp round mod rem abs sign sin cos tan
    asin acos atan atan2 pow sqrt hypot log exp var env matrix matrix3d translate translatex translatey translatez translate3d
    scale scalex scaley scalez scale3d rotate rotatex rotatey rotatez rotate3d skew skewx skewy perspective cubic-bezier steps
    linear blur brightness contrast drop-shadow grayscale hue-rotate invert opacity saturate sepia path polygon circle ellipse
    inset rect xywh ray format tech local linear-gradient radial-gradient conic-gradient repeating-linear-gradient
    repeating-radial-gradient repeating-conic-gradient fit-content counter counters symbols icc-color"""
)
"""CSS functions that load nothing. `url()` is judged by its address; `src()`, `image()`, `image-set()`, `cross-fade()`,
`element()`, `attr()` and `expression()` are not here."""

NESTED_RULES = _words("media supports layer container scope starting-style")
"""At-rules that hold rules. `@import` and `@namespace` load or rename, and are dropped."""
KEYFRAMES = _words("keyframes -webkit-keyframes -moz-keyframes")
