"""Draws the demo source: "Ottermoor Hill Railway", an invented funicular with its site.

Everything comes from code and fixed seeds. No real place, person, brand or photograph.
"""

from young_prism.engine.workers.environment import configure_codecs

configure_codecs()  # before the drawings are imported, which libvips writes
